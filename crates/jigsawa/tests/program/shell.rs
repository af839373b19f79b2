//! `jigsawa completions` and `manual`: what shells and readers of manuals get.

use rstest::rstest;

use crate::night::Night;

#[rstest]
#[case("bash", true)]
#[case("zsh", true)]
#[case("fish", true)]
#[case("powershell", false)]
#[case("elvish", false)]
fn a_shell_learns_commands_and_options_and_most_learn_values(
    #[case] shell: &str,
    #[case] values: bool,
) {
    let night = Night::new();
    let run = night.run(&format!("completions {shell}")).success();
    for word in ["compose", "palette", "reject"] {
        assert!(run.out.contains(word), "{shell}: {word}");
    }
    assert_eq!(run.out.contains("winsorized"), values);
}

#[test]
fn a_shell_that_is_not_known_is_answered_with_those_that_are() {
    let night = Night::new();
    night.run("completions bsh").ends(2).says("bash");
}

#[test]
fn every_command_has_a_page_and_none_is_written_over() {
    let night = Night::new();
    night.run("manual man").success();
    let pages = night.files("man");
    for name in [
        "jigsawa.1",
        "jigsawa-run.1",
        "jigsawa-stack.1",
        "jigsawa-finish.1",
    ] {
        assert!(pages.iter().any(|p| p == name), "{pages:?}");
    }
    let page = std::fs::read_to_string(night.path("man/jigsawa-stack.1")).unwrap();
    for word in [".TH jigsawa-stack 1", "winsorized", "Examples"] {
        assert!(page.contains(word), "{word} in {page}");
    }
    night.run("manual man").ends(1).says("--overwrite");
    night.run("manual man --overwrite").success();
}
