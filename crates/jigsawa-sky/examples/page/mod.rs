//! A table put into a page, between its markers.

/// Puts the text between `<!-- NAME: begin -->` and `<!-- NAME: end -->` of a file; prints it where no file is
/// named.
pub fn put(path: Option<String>, name: &str, text: &str) {
    let Some(path) = path else {
        println!("{text}");
        return;
    };
    let (begin, end) = (
        format!("<!-- {name}: begin -->"),
        format!("<!-- {name}: end -->"),
    );
    let page = std::fs::read_to_string(&path).expect("the file can be read");
    let (before, rest) = page
        .split_once(&begin)
        .expect("the file has the first marker");
    let (_, after) = rest
        .split_once(&end)
        .expect("the file has the second marker");
    let page = format!("{before}{begin}\n{text}\n{end}{after}");
    std::fs::write(&path, page).expect("the file can be written");
}
