//! Image codecs of others that panic where they should return an error: here they return nothing, and print nothing.

use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::Once;
use std::sync::atomic::{AtomicUsize, Ordering};

/// Codecs at work. While there are any, no panic is printed.
static AT_WORK: AtomicUsize = AtomicUsize::new(0);

/// What a codec returns; `None` where it panics.
pub(crate) fn caught<T>(codec: impl FnOnce() -> T) -> Option<T> {
    static HOOK: Once = Once::new();
    HOOK.call_once(|| {
        let usual = std::panic::take_hook();
        std::panic::set_hook(Box::new(move |info| {
            if AT_WORK.load(Ordering::SeqCst) == 0 {
                usual(info);
            }
        }));
    });
    AT_WORK.fetch_add(1, Ordering::SeqCst);
    let got = catch_unwind(AssertUnwindSafe(codec)).ok();
    AT_WORK.fetch_sub(1, Ordering::SeqCst);
    got
}
