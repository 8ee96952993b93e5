//! What a process under trial does, again and again, and says after each time.

use crate::files;
use crate::model::{self, Model};
use crate::versions;
use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::time::Duration;
use velvet_drawer::inspect::{Exchange, File, Limits, import, import_sql, salvage};
use velvet_drawer::{Drawer, Error};

fn say(what: impl std::fmt::Display) {
    println!("{what}");
    // Whoever listens may be gone.
    let _ = std::io::stdout().flush();
}

/// Plays a role, for ever or once.
pub(crate) fn run(role: &str, folder: &Path, seed: u64, from: u64) {
    let path = folder.join("fire.drawer");
    let result = match role {
        "write" => write(&path, seed, from),
        "count" => crate::crowd::work(&path, seed, from),
        "scribble" => crate::screens::work(&path, seed),
        "seal" | "settle" | "unseal" | "renew" => crate::seals::work(role, folder, &path),
        "open" => Drawer::open(&path, model::schema()).and_then(Drawer::close),
        "clock" => crate::clocks::work(&path, seed),
        "turns" => crate::every_call::work(folder, &path),
        "upgrade" => Drawer::open(&path, versions::schema(3)).map(|_| say("done")),
        #[cfg(feature = "encryption")]
        cipher if cipher.starts_with("cipher ") => crate::ciphers::work(&cipher[7..], folder, &path),
        once if once.starts_with("once ") => one_time(&once[5..], folder, &path, seed, from),
        role => (0..).try_for_each(|n| {
            again(role, folder, &path, n)?;
            say(n);
            Ok(())
        }),
    };
    if let Err(error) = result {
        say(format_args!("refused: {error}"));
        std::process::exit(3);
    }
}

fn write(path: &Path, seed: u64, from: u64) -> Result<(), Error> {
    let drawer = Drawer::options().lock_timeout(Duration::from_secs(20)).open(path, model::schema())?;
    let mut model = Model::after(seed, from);
    for n in from.. {
        let change = model.change(seed, n);
        change.write(&drawer)?;
        say(n + 1);
        model.apply(&change);
    }
    Ok(())
}

/// A role once, which says what it had done by then.
fn one_time(role: &str, folder: &Path, path: &Path, seed: u64, from: u64) -> Result<(), Error> {
    match role {
        "write" => {
            let drawer = Drawer::open(path, model::schema())?;
            let mut model = Model::after(seed, from);
            for n in from..from + 3 {
                let change = model.change(seed, n);
                change.write(&drawer)?;
                say(n + 1);
                model.apply(&change);
            }
            drawer.close()?;
        }
        "upgrade" => Drawer::open(path, versions::schema(3))?.close()?,
        role => again(role, folder, path, 0)?,
    }
    say("done");
    Ok(())
}

/// What fails of the trial's own doing says nothing about the library.
fn of_the_trial(error: std::io::Error) -> Error {
    Error::own(format!("the trial itself could not go on. {error}"))
}

fn again(role: &str, folder: &Path, path: &Path, n: u64) -> Result<(), Error> {
    let new = |name: &str| -> PathBuf {
        let place = folder.join(format!("{name}-{n}"));
        let _ = fs::remove_file(&place);
        place
    };
    match role {
        "compact" => drop(Drawer::open(path, model::schema())?.compact()?),
        "copy" => Drawer::open(path, model::schema())?.copy_to(new("made"))?,
        "restore" => drop(Drawer::restore(path, folder.join(if n.is_multiple_of(2) { "one" } else { "two" }))?),
        "import" => {
            let mut text = Vec::new();
            File::open(path)?.export_all(Exchange::SqlText, &mut text)?;
            import_sql(new("made"), &String::from_utf8_lossy(&text), &Limits::default())?;
        }
        "rows" => {
            let rows: String = (0..200).map(|m| format!("{{\"name\":\"I-{n}-{m}\"}}\n")).collect();
            import(path, Some("glaze"), Exchange::JsonLines, &mut rows.as_bytes(), &Limits::default())?;
        }
        "salvage" => drop(salvage(path, new("made"), &Limits::default())?),
        "ship" => {
            let place = folder.join("shipped.drawer");
            Drawer::remove_from_device(&place)?;
            Drawer::options().shipped_file(folder.join("one")).open(place, model::schema())?.close()?;
        }
        "aside" => {
            // What is no drawer stands where the app looks for its own.
            fs::copy(folder.join("one"), folder.join("next")).map_err(of_the_trial)?;
            files::PARTS[1..].iter().for_each(|end| drop(fs::remove_file(files::part(path, end))));
            fs::rename(folder.join("next"), path).map_err(of_the_trial)?;
            Drawer::options().set_aside_unreadable().open(path, model::schema())?.close()?;
        }
        _ => say("no such role"),
    }
    Ok(())
}
