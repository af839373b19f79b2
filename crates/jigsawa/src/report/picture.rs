//! Pictures on a page: packed into it, and with something drawn over them.

use jigsawa_core::frame::RowOrder;
use jigsawa_core::number::Convert;
use jigsawa_core::quick::Picture;
use maud::{Markup, PreEscaped, html};

use super::chart::escaped;

/// Width of a picture or a map, in its own units.
pub const WIDTH: f64 = 420.0;

/// Of pictures of frames: at this quality no block is seen on a stretched sky.
const QUALITY: u8 = 88;

/// Of pictures to look at for themselves.
const FINE: u8 = 90;

/// Where there is nothing to show.
pub const NOTHING: [u8; 3] = [12, 14, 18];

/// The row of a picture, from its top, that a stored row becomes.
pub const fn shown_row(y: usize, height: usize, order: RowOrder) -> usize {
    match order {
        RowOrder::BottomUp => height - 1 - y,
        RowOrder::TopDown => y,
    }
}

/// Bytes as the text that a page holds them in.
pub fn base64(bytes: &[u8]) -> String {
    use base64::Engine;
    base64::engine::general_purpose::STANDARD.encode(bytes)
}

/// Where a page finds packed bytes.
pub fn data_url(kind: &str, bytes: &[u8]) -> String {
    format!("data:image/{kind};base64,{}", base64(bytes))
}

/// Colours, packed for the eye; nothing, with a warning, where that fails.
pub fn jpeg(rgb: &[u8], (width, height): (usize, usize)) -> String {
    match jigsawa_formats::jpeg::colour(rgb, width, height, FINE) {
        Ok(bytes) => data_url("jpeg", &bytes),
        Err(e) => {
            tracing::warn!("a picture of the page cannot be made: {e}");
            String::new()
        }
    }
}

/// How a picture is packed and enlarged.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum As {
    /// Each of its pixels as a square.
    Cells,
    /// Smooth between its pixels.
    Surface,
    /// A grey picture, for the eye alone.
    Photograph,
}

/// A picture as it is.
pub fn figure(caption: &str, p: &Picture, how: As) -> Markup {
    let height = WIDTH * p.height().real() / p.width().real();
    figure_over(caption, (p, how), height, &html! {})
}

/// A picture that becomes [`WIDTH`] wide and so many units high, and what is drawn over it in these.
pub fn figure_over(caption: &str, (p, how): (&Picture, As), height: f64, over: &Markup) -> Markup {
    let bytes = match how {
        As::Cells | As::Surface => {
            jigsawa_formats::png::in_memory((p.width(), p.height()), p.rgb())
        }
        As::Photograph => {
            let grey: Vec<u8> = p.rgb().chunks_exact(3).map(|c| c[0]).collect();
            jigsawa_formats::jpeg::grey(&grey, p.width(), p.height(), QUALITY)
        }
    };
    let kind = if how == As::Photograph { "jpeg" } else { "png" };
    let style = if how == As::Cells {
        "image-rendering:pixelated"
    } else {
        ""
    };
    let image = format!(
        "<image width=\"{WIDTH}\" height=\"{height:.1}\" preserveAspectRatio=\"none\" style=\"{style}\" href=\"{}\"><title>{}</title></image>",
        data_url(kind, &bytes.unwrap_or_default()),
        escaped(caption)
    );
    drawn(
        caption,
        (WIDTH, height),
        &html! { (PreEscaped(image)) (over) },
    )
}

/// A drawing of a size with its caption.
pub fn drawn(caption: &str, (width, height): (f64, f64), drawing: &Markup) -> Markup {
    html! {
        figure {
            figcaption { (caption) }
            svg.map viewBox=(format!("0 0 {width:.0} {height:.0}")) role="img" aria-label=(caption) { (drawing) }
        }
    }
}

/// Fields of colour with what they mean.
pub fn keys<T: maud::Render>(keys: impl IntoIterator<Item = ([u8; 3], T)>) -> Markup {
    html! {
        p.keys {
            @for ([r, g, b], words) in keys { span { span.key.field style=(format!("background:rgb({r},{g},{b})")) {} " " (words) } }
        }
    }
}
