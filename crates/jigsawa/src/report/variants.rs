//! The comparison page: flip through the variants with the mixes beside.

use std::path::Path;

use jigsawa_formats::whole::Unfinished;
use maud::{PreEscaped, html};

use super::page::base64;
use super::save::{save, whole};
use jigsawa_work::compose::Variant;
use jigsawa_work::trouble::Trouble;

const STYLE: &str = "
.flip { display: grid; grid-template-columns: minmax(0, 1fr) 19rem; gap: 1.2rem; } .flip > div:first-child img { width: 100%; display: block; background: #101316; }
.flip.it { display: none; } .flip.it.on { display: grid; } .flip dl { grid-template-columns: max-content 1fr; align-content: start; }
.strip { display: grid; grid-template-columns: repeat(auto-fill, minmax(120px, 1fr)); gap: .4rem; margin-top: 1rem; }
.strip button { padding: 0; border: 2px solid transparent; background: none; text-align: left; font-size: .85rem; } .strip button[aria-pressed=true] { border-color: var(--link); background: none; color: inherit; }
.strip img { width: 100%; display: block; } .strip span { display: block; padding: .1rem .3rem; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
@media (max-width: 900px) { .flip { grid-template-columns: 1fr; } }";

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
    let pictures: Vec<String> = variants
        .iter()
        .map(|v| {
            let p = &v.picture;
            let jpeg = jigsawa_formats::jpeg::colour(p.rgb(), p.width(), p.height(), 90);
            format!(
                "data:image/jpeg;base64,{}",
                base64(&jpeg.unwrap_or_default())
            )
        })
        .collect();
    let body = html! {
        header {
            h1 { (title) ": " (variants.len()) " variants" }
            p { "Arrow keys flip through them. The full picture of number N: the same command with " code { "--pick N" } "." }
        }
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
        script { (PreEscaped(SCRIPT)) }
    };
    save(
        path,
        whole(&format!("{title}: variants"), STYLE, &body),
        overwrite,
    )
}
