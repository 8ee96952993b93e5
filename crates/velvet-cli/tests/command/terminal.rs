//! What the output goes to: a pipe that is closed, a pager, colours, and what is no text.

use crate::common;
use assert_cmd::Command;
use common::{drawer, fails, newest, on_a_terminal, succeeds, velvet};
use std::fs;

#[test]
fn a_reader_that_goes_away_is_no_error() {
    let file = drawer();
    let program = assert_cmd::cargo::cargo_bin("velvet");
    for form in ["table", "json", "csv"] {
        let pipe = format!(
            "'{}' records '{file}' article --limit 4800 --as {form} | head -n 1; exit ${{PIPESTATUS[0]}}",
            program.display()
        );
        let output = std::process::Command::new("bash").args(["-c", &pipe]).output().unwrap();
        assert!(output.stderr.is_empty(), "{form}: {}", String::from_utf8_lossy(&output.stderr));
        assert!(output.status.success(), "{form}");
    }
}

#[test]
fn long_output_goes_through_the_pager_of_a_terminal() {
    let shown = on_a_terminal(&["records", &drawer(), "article", "--limit", "60"], "sed s/^/paged:/");
    assert_eq!(shown.lines().filter(|l| l.starts_with("paged:")).count(), 64, "{shown}");
    // Colours go through, and so does what is wrong.
    assert!(shown.contains("\u{1b}["), "{shown}");
    let said = on_a_terminal(&["records", &drawer(), "nothing"], "sed s/^/paged:/");
    assert!(said.contains("there is no table `nothing`") && !said.contains("paged:"), "{said}");
    // Where there is no such pager, or nobody wants one, it is shown all the same.
    for pager in ["velvet-no-such-pager", ""] {
        let shown = on_a_terminal(&["records", &drawer(), "firing"], pager);
        assert!(shown.contains("lit_at"), "{pager}: {shown}");
    }
}

#[test]
fn colours_reach_only_a_pager_that_shows_them() {
    let folder = tempfile::tempdir().unwrap();
    let pager = folder.path().join("less");
    fs::write(&pager, "#!/bin/sh\necho \"LESS=$LESS $*\"; cat\n").unwrap();
    std::process::Command::new("chmod").arg("+x").arg(&pager).status().unwrap();
    let shown = |options: Option<&str>, pager: &str| {
        // The options are those of the process that this starts.
        let set = options.map(|options| format!("LESS={options} ")).unwrap_or_default();
        let script = folder.path().join("velvet");
        let program = assert_cmd::cargo::cargo_bin("velvet");
        let unset = if options.is_none() { "unset LESS; " } else { "" };
        fs::write(&script, format!("#!/bin/sh\n{unset}{set}exec {} \"$@\"\n", program.display())).unwrap();
        std::process::Command::new("chmod").arg("+x").arg(&script).status().unwrap();
        let python = "import os, pty, sys\nos.environ['PAGER'] = sys.argv[1]\npty.spawn(sys.argv[2:])";
        let mut command = Command::new("python3");
        command.args(["-c", python, pager, script.to_str().unwrap(), "records", &drawer(), "firing"]);
        command.env("TERM", "xterm").env_remove("NO_COLOR");
        String::from_utf8(command.output().unwrap().stdout).unwrap()
    };
    let less = pager.to_str().unwrap();
    for (options, pager, coloured) in [
        (None, less.to_owned(), true),
        (Some("-S"), less.to_owned(), false),
        (Some("-SR"), less.to_owned(), true),
        (Some("-S"), format!("{less} -R"), true),
        (Some("-S"), "cat".to_owned(), true),
    ] {
        let shown = shown(options, &pager);
        assert_eq!(shown.contains('\u{1b}'), coloured, "{options:?} {pager}: {shown}");
        assert!(shown.contains("lit_at"), "{shown}");
    }
}

#[test]
fn an_attachment_comes_out_byte_for_byte_and_on_a_screen_is_told_of() {
    let folder = tempfile::tempdir().unwrap();
    let to = folder.path().join("bowl.png");
    let arguments = ["attachment", &newest(), "K-104.png"];
    let said = succeeds(&[&arguments[..], &["--to", to.to_str().unwrap()]].concat());
    assert!(
        said.starts_with("Wrote attachment 4 K-104.png (image/png) to ") && said.contains("with the right hash"),
        "{said}"
    );
    let written = fs::read(&to).unwrap();
    assert!(written.starts_with(b"\x89PNG") && written.ends_with(b"IEND\xaeB`\x82"));
    let piped = velvet(&arguments).output().unwrap();
    assert!(piped.status.success() && piped.stdout == written);
    let seen = on_a_terminal(&arguments, "");
    assert!(
        seen.contains("This is attachment 4 K-104.png (image/png), 36.3 KB, with the right hash: ")
            && seen.contains("--to NEW_FILE"),
        "{seen}"
    );
    let message = fails(&[&arguments[..], &["--to", to.to_str().unwrap()]].concat());
    assert!(message.contains("bowl.png") && fs::read(&to).unwrap() == written, "{message}");
    let message = fails(&["attachment", &newest(), "K-999.png"]);
    assert!(message.contains("no attachment has that number, name or hash"), "{message}");
}
