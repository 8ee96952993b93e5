//! Files that were changed or made to hurt, looked at in every way: no panic, no trace on them, little time and memory.

use crate::files::{self, PARTS, mutate, part};
use crate::kills::start;
use crate::model;
use crate::trial::{Trial, quietly};
use rusqlite::Connection;
use std::fs;
use std::io;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};
use velvet_drawer::inspect::{Exchange, File, Limits, Page, TrailOf, salvage};
use velvet_drawer::{Drawer, Error, Trail};

/// How long a look may take.
const LONGEST: Duration = Duration::from_secs(10);

/// How much memory a look may take, in kilobytes.
const LARGEST: u64 = 500_000;

type Look = (&'static str, fn(&Path, &Path) -> Result<(), Error>);

/// Every way to look. The second path is a folder for what is made.
const LOOKS: [Look; 14] = [
    ("overview", |path, _| open(path)?.overview().map(drop)),
    ("notes", |path, _| open(path)?.notes().map(drop)),
    ("structure", |path, _| open(path)?.structure().map(drop)),
    ("rows", |path, _| {
        each_table(path, |file, name| {
            let table = file.table(name)?;
            let page = Page { limit: Some(500), ..Page::default() };
            file.rows(&table, &page, &mut |_| Ok(()))?;
            file.count(&table, &page)?;
            file.one(&table, "#1").map(drop)
        })
    }),
    ("search", |path, _| open(path)?.search("clay", &[], &mut |_| Ok(true))),
    ("query", |path, _| open(path)?.query("SELECT * FROM sqlite_schema", &mut |_| Ok(()), &mut |_| Ok(()))),
    ("sessions", |path, _| open(path)?.sessions(50).map(drop)),
    ("trail", |path, _| open(path)?.trail(&TrailOf::default()).map(drop)),
    ("check", |path, _| open(path)?.check().map(drop)),
    ("compare", |path, _| open(path)?.compare(&open(path)?, &mut |_| Ok(())).map(drop)),
    ("lines", |path, _| open(path)?.export_all(Exchange::JsonLines, &mut io::sink()).map(drop)),
    ("statements", |path, _| open(path)?.export_all(Exchange::SqlText, &mut io::sink()).map(drop)),
    ("copy", |path, to| open(path)?.copy_to(to.join("copy"), false)),
    ("salvage", |path, to| salvage(path, to.join("saved"), &limits()).map(drop)),
];

fn limits() -> Limits {
    Limits { within: Duration::from_millis(500), ..Limits::default() }
}

fn open(path: &Path) -> Result<File, Error> {
    File::open_within(path, &limits())
}

fn each_table(path: &Path, look: impl Fn(&File, &str) -> Result<(), Error>) -> Result<(), Error> {
    let file = open(path)?;
    for name in file.table_names()?.iter().take(8) {
        // What is wrong with one says nothing about the next.
        let _ = look(&file, name);
    }
    Ok(())
}

/// Looks at a file in every way, and then opens a copy of it as its app would.
fn look(trial: &mut Trial, path: &Path, what: &str) {
    let made = tempfile::tempdir().expect("a folder");
    let home = path.parent().unwrap_or(path);
    let before = files::standing(home);
    for (name, look) in LOOKS {
        // Counted anew from here on.
        let _ = fs::write("/proc/self/clear_refs", "5");
        let begun = Instant::now();
        let looked = catch_unwind(AssertUnwindSafe(|| look(path, made.path())));
        let (took, memory) = (begun.elapsed(), most_memory());
        trial.count("looks", 1);
        trial.most("ms the longest look", took.as_millis() as u64);
        trial.most("MB the largest look", memory / 1_000);
        match looked {
            Err(_) => trial.found(format!("{name} of {what} panicked")),
            Ok(Err(error)) if error.to_string().len() < 20 => trial.found(format!("{name} of {what} says {error}")),
            _ if took > LONGEST => trial.found(format!("{name} of {what} took {took:?}")),
            _ if memory > LARGEST => trial.found(format!("{name} of {what} took {memory} KB")),
            _ => {}
        }
    }
    let after = files::standing(home);
    if after != before {
        let name = |all: &[files::Standing]| {
            all.iter().map(|(name, bytes, _)| format!("{name} {}", bytes.len())).collect::<Vec<_>>()
        };
        trial.found(format!("a look at {what} left a trace: {:?} became {:?}", name(&before), name(&after)));
    }
    let copy = made.path().join("fire.drawer");
    let opened = catch_unwind(AssertUnwindSafe(|| {
        files::copy(path, &copy)?;
        let opened = Drawer::options().lock_timeout(Duration::from_millis(50)).open(&copy, model::schema());
        let _ = opened.and_then(|drawer| {
            let _ = drawer.records::<model::Piece>().collect();
            drawer.close()
        });
        io::Result::Ok(())
    }));
    if opened.is_err() {
        trial.found(format!("opening {what} panicked"));
    }
}

/// The most memory that this process has had, in kilobytes.
fn most_memory() -> u64 {
    let status = fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = status.lines().find_map(|line| line.strip_prefix("VmHWM:"));
    line.and_then(|line| line.trim().trim_end_matches(" kB").parse().ok()).unwrap_or_default()
}

/// Files that are whole: at rest, as a kill leaves them, and of another program in the middle of a write.
fn bases(folder: &Path) -> Vec<PathBuf> {
    let [rest, killed, foreign] = ["rest", "killed", "foreign"].map(|name| folder.join(name));
    let drawer = Drawer::options().trail(Trail::Before).open(&rest, model::schema()).expect("a drawer");
    let mut list = model::Model::default();
    for n in 0..60 {
        let change = list.change(5, n);
        change.write(&drawer).expect("written");
        list.apply(&change);
        if n == 40 {
            drop(drawer.space());
        }
    }
    files::copy(&rest, &killed).expect("copied");
    drawer.close().expect("closed");
    let program = Connection::open(folder.join("running")).expect("a database");
    program
        .execute_batch(
            "CREATE TABLE t (a TEXT PRIMARY KEY, b REFERENCES t (a), c AS (upper(a))) WITHOUT ROWID;
             CREATE TABLE u (x INTEGER PRIMARY KEY, y BLOB); CREATE INDEX i ON u (y, x);
             CREATE VIEW v AS SELECT a, x FROM t JOIN u ON a = 'k' || x; CREATE VIRTUAL TABLE w USING fts5 (words);
             INSERT INTO w VALUES ('clay and more clay');
             WITH n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n LIMIT 300) INSERT INTO u SELECT i, randomblob(40) FROM n;
             INSERT INTO t SELECT 'k' || x, NULL FROM u; PRAGMA cache_size = 2; BEGIN; UPDATE u SET y = randomblob(90)",
        )
        .expect("made");
    files::copy(&folder.join("running"), &foreign).expect("copied");
    vec![rest, killed, foreign]
}

/// Files, logs and journals in which something was changed.
pub(crate) fn mutants(trial: &mut Trial) {
    let folder = tempfile::tempdir().expect("a folder for the trial");
    let bases = bases(folder.path());
    let place = folder.path().join("looked-at");
    quietly();
    while let Some(mut chance) = trial.next() {
        let base = chance.choice(&bases).unwrap_or(&bases[0]).clone();
        let _ = fs::remove_dir_all(&place);
        fs::create_dir_all(&place).expect("a folder");
        let path = place.join("mutant.drawer");
        files::copy(&base, &path).expect("copied");
        let parts: Vec<_> = PARTS.iter().map(|end| part(&path, end)).filter(|p| p.exists()).collect();
        let changed = chance.choice(&parts).unwrap_or(&parts[0]).clone();
        let mut bytes = fs::read(&changed).expect("read");
        mutate(&mut bytes, &mut chance);
        fs::write(&changed, &bytes).expect("written");
        let name = base.file_name().unwrap_or_default().to_string_lossy().into_owned();
        look(trial, &path, &format!("a mutant of {name}"));
        trial.count("mutants", 1);
    }
    drop(std::panic::take_hook());
}

/// Files that were made to hurt.
pub(crate) fn crafted(trial: &mut Trial) {
    let folder = tempfile::tempdir().expect("a folder for the trial");
    quietly();
    while let Some(mut chance) = trial.next() {
        let place = folder.path().join("looked-at");
        let _ = fs::remove_dir_all(&place);
        fs::create_dir_all(&place).expect("a folder");
        let path = place.join("crafted.drawer");
        let statements = hurtful(&mut chance);
        let file = Connection::open(&path).expect("a database");
        let made = file.execute_batch(&format!(
            "PRAGMA foreign_keys = OFF; CREATE TABLE plain (a); INSERT INTO plain VALUES ('clay'); {statements}"
        ));
        drop(file);
        if made.is_err() {
            trial.count("that cannot be made", 1);
        }
        look(trial, &path, &statements.chars().take(90).collect::<String>());
        trial.count("crafted files", 1);
        if let Err(what) = opened_with_a_view(trial, &place, &mut chance) {
            trial.found(what);
        }
    }
    drop(std::panic::take_hook());
}

/// A drawer one of whose tables is a view that may never end is opened or refused, by a process of its own, in little time.
fn opened_with_a_view(trial: &mut Trial, place: &Path, chance: &mut fastrand::Rng) -> Result<(), String> {
    let told = |error: rusqlite::Error| error.to_string();
    let path = place.join("fire.drawer");
    model::make(&path, chance.u64(..), 3).map_err(|error| error.to_string())?;
    let file = Connection::open(&path).map_err(told)?;
    let tables = "SELECT name FROM sqlite_schema WHERE type = 'table' AND name NOT LIKE 'sqlite_%' ORDER BY name";
    let tables: Vec<String> = file
        .prepare(tables)
        .and_then(|mut names| names.query_map([], |row| row.get(0))?.collect::<rusqlite::Result<_>>())
        .map_err(told)?;
    let table = chance.choice(&tables).cloned().unwrap_or_default();
    let columns: Vec<String> = file
        .prepare(&format!("SELECT name FROM pragma_table_info('{table}')"))
        .and_then(|mut names| names.query_map([], |row| row.get(0))?.collect::<rusqlite::Result<_>>())
        .map_err(told)?;
    let [first, others @ ..] = &columns[..] else { return Ok(()) };
    let others: String = others.iter().map(|name| format!(", was.\"{name}\"")).collect();
    let with = match chance.u8(..3) {
        0 => format!(
            "n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n) SELECT i AS \"{first}\"{others} FROM n, was WHERE i < 0"
        ),
        1 => format!("n(i) AS (SELECT 1 UNION ALL SELECT i % 7 FROM n) SELECT i AS \"{first}\"{others} FROM n, was"),
        _ => format!("n(i) AS (SELECT 1) SELECT was.\"{first}\"{others} FROM n, was"),
    };
    let made = file.execute_batch(&format!(
        "PRAGMA foreign_keys = OFF; PRAGMA legacy_alter_table = ON; ALTER TABLE \"{table}\" RENAME TO was;
         CREATE VIEW \"{table}\" AS WITH RECURSIVE {with}"
    ));
    drop(file);
    if made.is_err() {
        return Ok(());
    }
    trial.count("views in the place of tables", 1);
    let (begun, mut process) = (Instant::now(), start("open", place, 0, 0));
    loop {
        match process.try_wait().map_err(|error| error.to_string())? {
            Some(status) if matches!(status.code(), Some(0 | 3)) => return Ok(()),
            Some(status) => return Err(format!("opening with a view named {table} ended with {status}")),
            None if begun.elapsed() > LONGEST => {
                let _ = (process.kill(), process.wait());
                return Err(format!("opening with a view named {table} does not end: {with}"));
            }
            None => std::thread::sleep(Duration::from_millis(2)),
        }
    }
}

fn hurtful(chance: &mut fastrand::Rng) -> String {
    let (much, large) = (chance.u32(2..60), chance.u64(1_000..900_000_000));
    let name: String = (0..chance.usize(1..12))
        .map(|_| *chance.choice(&['a', '"', '\n', '\u{1b}', '\u{202e}', ']', '\'', ' ', 'é', '%']).unwrap_or(&'a'))
        .collect();
    let quoted = format!("\"{}\"", name.replace('"', "\"\""));
    match chance.u32(..12) {
        // The engine takes only so many at a time; their text is put in as it stands in a file.
        11 => {
            let row = |n: u32| {
                format!(
                    "('view', 'k{n}', 'k{n}', 0, 'CREATE VIEW k{n} AS SELECT a FROM {}')",
                    if n == 0 { "plain".into() } else { format!("k{}", n - 1) }
                )
            };
            let rows: Vec<String> = (0..much * 50).map(row).collect();
            format!(
                "PRAGMA writable_schema = ON; INSERT INTO sqlite_schema VALUES {}; PRAGMA writable_schema = OFF",
                rows.join(", ")
            )
        }
        0 => format!(
            "CREATE VIEW v AS WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n) SELECT i % {much} AS a FROM n"
        ),
        1 => (1..much).fold("CREATE VIEW v0 AS SELECT a FROM plain;".into(), |all, n| {
            all + &format!("CREATE VIEW v{n} AS SELECT x.a FROM v{0} x, v{0} y;", n - 1)
        }),
        2 => format!("CREATE TABLE c (a, b AS (hex(zeroblob({large})))); INSERT INTO c (a) VALUES (1)"),
        3 => format!("CREATE VIEW v AS SELECT hex(zeroblob({large})) AS a FROM plain"),
        4 => {
            (0..much * 10).fold(String::new(), |all, n| all + &format!("CREATE TABLE t{n} (a REFERENCES t{});", n + 1))
        }
        5 => format!(
            "CREATE TABLE {quoted} ({quoted} TEXT PRIMARY KEY, b REFERENCES {quoted}); INSERT INTO {quoted} VALUES ('clay', 'gone')"
        ),
        6 => {
            let columns: Vec<String> = (0..much * 20).map(|n| format!("c{n}")).collect();
            format!("CREATE TABLE wide ({}); INSERT INTO wide DEFAULT VALUES", columns.join(", "))
        }
        7 => {
            let twice =
                (1..much).map(|n| format!("w{n} AS (SELECT x.a FROM w{0} x, w{0} y)", n - 1)).collect::<Vec<_>>();
            format!(
                "CREATE VIEW v AS WITH w0 AS (SELECT a FROM plain), {} SELECT a FROM w{}",
                twice.join(", "),
                much - 1
            )
        }
        8 => format!(
            "CREATE VIEW v AS SELECT a FROM plain WHERE {}1{}",
            "(".repeat(much as usize),
            ")".repeat(much as usize)
        ),
        9 => "CREATE VIEW a AS SELECT * FROM b; CREATE VIEW b AS SELECT * FROM a; CREATE VIEW c AS SELECT * FROM gone"
            .into(),
        _ => format!(
            "CREATE TABLE l (a); INSERT INTO l VALUES (CAST(zeroblob({}) AS TEXT)), (randomblob(2000))",
            large % 30_000_000
        ),
    }
}
