//! The comparison page: flip through the variants with the mixes beside.

use std::path::Path;

use jigsawa_formats::whole::Unfinished;
use maud::html;

use super::page::Page;
use super::picture::jpeg;
use jigsawa_work::compose::Variant;
use jigsawa_work::trouble::Trouble;

/// Arrow keys and the strip choose; 1:1 with the numbers of `--pick`.
const SCRIPT: &str = "const its=[...document.querySelectorAll('.it')],bs=[...document.querySelectorAll('.strip button')];\
let at=0;function go(i){at=(i+its.length)%its.length;its.forEach((e,k)=>e.classList.toggle('on',k===at));\
bs.forEach((b,k)=>b.setAttribute('aria-pressed',k===at));location.replace('#'+(at+1));}\
bs.forEach((b,k)=>b.onclick=()=>go(k));document.addEventListener('keydown',e=>{\
if(e.key==='ArrowRight'||e.key===' '){go(at+1);e.preventDefault();}if(e.key==='ArrowLeft')go(at-1);});\
go((parseInt(location.hash.slice(1))||1)-1);";

/// Writes the page, under a temporary name still.
pub fn write_variants(
    path: &Path,
    title: &str,
    variants: &[Variant<'_>],
    overwrite: bool,
) -> Result<Unfinished, Trouble> {
    let packed = |v: &Variant<'_>| {
        let p = &v.picture;
        jpeg(p.rgb(), (p.width(), p.height()))
    };
    let pictures: Vec<String> = variants.iter().map(packed).collect();
    let heading = format!("{title}: {} variants", variants.len());
    let lead = html! { p { "Arrow keys flip through them. The full picture of number N: the same command with " code { "--pick N" } "." } };
    let mut page = Page::new(format!("{title}: variants"), heading, lead).script(SCRIPT);
    page.add(html! {
        section {
            @for (i, (v, src)) in variants.iter().zip(&pictures).enumerate() {
                @let p = &v.bound.palette;
                div.flip.it {
                    div { img src=(src) alt=(p.name); }
                    div {
                        h2 { (i + 1) " " (p.name) }
                        p { (p.about) }
                        dl {
                            @for c in &v.bound.channels {
                                dt { (c.name) } dd { (c.mix) }
                            }
                        }
                    }
                }
            }
            div.strip {
                @for (i, (v, src)) in variants.iter().zip(&pictures).enumerate() {
                    button type="button" { img src=(src) alt=""; span { (i + 1) " " (v.bound.palette.name) } }
                }
            }
        }
    });
    page.save(path, overwrite)
}
