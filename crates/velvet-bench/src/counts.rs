//! Instructions and memory: what does not depend on the machine or on what else it does.
//!
//! Each work is done by this program as a process of its own, by our code or by code written by hand.

use crate::Result;
use crate::live;
use crate::records::{self, Piece};
use crate::table::Ratios;
use std::hint::black_box;
use std::path::Path;
use std::process::Command;
use velvet_drawer::{Drawer, Key};

/// The argument that makes this program do one work and end.
pub(crate) const ONE: &str = "one";

/// Does one work: what, by whom, how many times, in which file.
pub(crate) fn one(arguments: &[String]) -> Result<()> {
    let [work, who, count, path] = arguments else { return Err("one WORK WHO COUNT FILE".into()) };
    let (count, path) = (count.parse::<u32>()?, Path::new(path));
    // Every app has several threads, and what the system does for one is less.
    std::thread::spawn(std::thread::park);
    match (work.as_str(), who.as_str()) {
        ("get", "ours") => {
            let drawer = Drawer::open(path, records::schema())?;
            for n in 0..count {
                black_box(drawer.get(Key::<Piece>::from_number(1 + i64::from(n * 17 % records::ROWS)))?);
            }
        }
        ("get", _) => {
            let connection = records::hand(path)?;
            let text = format!("{} WHERE key = ?1", records::COLUMNS);
            for n in 0..count {
                let key = 1 + i64::from(n * 17 % records::ROWS);
                black_box(connection.prepare_cached(&text)?.query_row([key], records::by_hand)?);
            }
        }
        ("list", "ours") => {
            let drawer = Drawer::open(path, records::schema())?;
            black_box(drawer.records::<Piece>().limit(count.into()).collect()?);
        }
        ("list", _) => {
            let connection = records::hand(path)?;
            let text = format!("{} ORDER BY key LIMIT ?1", records::COLUMNS);
            records::list(&mut connection.prepare_cached(&text)?, Some(count))?;
        }
        ("page", "ours") => {
            let drawer = Drawer::open(path, records::schema())?;
            for n in 0..count {
                black_box(records::page(&drawer, n % records::STAGES)?);
            }
        }
        ("page", _) => {
            let connection = records::hand(path)?;
            let text = records::page_by_hand();
            for n in 0..count {
                records::list(&mut connection.prepare_cached(&text)?, Some(n % records::STAGES))?;
            }
        }
        ("insert", "ours") => {
            let drawer = Drawer::open(path, records::schema())?;
            black_box(drawer.insert_all((0..count).map(|n| records::piece(records::ROWS + n)))?);
        }
        ("insert", _) => {
            let pieces = (0..count).map(|n| records::piece(records::ROWS + n)).collect();
            records::insert_by_hand(&records::hand(path)?, pieces)?;
        }
        ("stream", _) => {
            let drawer = Drawer::open(path, records::schema())?;
            let mut grams = 0_u64;
            drawer.records::<Piece>().limit(count.into()).for_each(|p| grams += u64::from(p.grams.unwrap_or(0)))?;
            println!("{} {}", black_box(grams), memory("VmHWM:")?);
        }
        ("hold", "ours") => {
            let drawer = Drawer::open(path, records::schema())?;
            let mut live = live::selected(&drawer, count).watch()?;
            let first = live.next().ok_or("the drawer is open")??;
            println!("{} {}", first.result.len(), memory("VmRSS:")?);
        }
        ("hold", _) => {
            let drawer = Drawer::open(path, records::schema())?;
            let all = live::selected(&drawer, count).collect()?;
            println!("{} {}", all.len(), memory("VmRSS:")?);
        }
        _ => return Err("no such work".into()),
    }
    Ok(())
}

/// How much memory this process has, or has had at most, in KB.
fn memory(what: &str) -> Result<u64> {
    let status = std::fs::read_to_string("/proc/self/status")?;
    let line = status.lines().find_map(|l| l.strip_prefix(what)).ok_or("the system does not tell")?;
    Ok(line.trim().trim_end_matches(" kB").parse()?)
}

fn this() -> Result<Command> {
    Ok(Command::new(std::env::current_exe()?))
}

/// How many instructions a work takes, between few and many times of it: what opening takes is not counted.
fn instructions(work: &str, who: &str, times: (u32, u32), base: &Path) -> Result<u64> {
    let count = |times: u32| -> Result<u64> {
        let file = base.with_file_name("counted.drawer");
        for end in ["", "-wal", "-shm"] {
            // The last count may have left none of these.
            let _ = std::fs::remove_file(format!("{}{end}", file.display()));
        }
        std::fs::copy(base, &file)?;
        let out = Command::new("valgrind")
            .args(["--tool=callgrind", "--callgrind-out-file=/dev/null"])
            .arg(std::env::current_exe()?)
            .args([ONE, work, who, &times.to_string()])
            .arg(&file)
            .output()?;
        let said = String::from_utf8_lossy(&out.stderr);
        let collected = said.lines().find_map(|l| l.split_once("Collected : ")).ok_or("valgrind counted nothing")?;
        Ok(collected.1.trim().parse()?)
    };
    Ok(count(times.1)?.saturating_sub(count(times.0)?))
}

pub(crate) fn run(table: &mut Ratios) -> Result<()> {
    let folder = tempfile::tempdir()?;
    let path = folder.path().join("base.drawer");
    let drawer = Drawer::open(&path, records::schema())?;
    drawer.insert_all((0..records::ROWS).map(records::piece))?;
    drawer.close()?;
    if Command::new("valgrind").arg("--version").output().is_ok() {
        for (work, times, goal) in [
            ("get", (1_000, 5_000), 1.05),
            ("list", (1_000, 21_000), 1.05),
            ("page", (100, 1_100), 1.10),
            ("insert", (1_000, 11_000), 1.05),
        ] {
            let ours = instructions(work, "ours", times, &path)?;
            let by_hand = instructions(work, "hand", times, &path)?;
            let each = u64::from(times.1 - times.0);
            let unit = if work == "page" { "20 rows" } else { "record" };
            table.numbers(&format!("{work}: instructions per {unit}"), ours / each, by_hand / each, goal);
        }
    } else {
        println!("valgrind is not installed, so instructions are not counted.");
    }

    let drawer = Drawer::open(&path, records::schema())?;
    drawer.write(|tx| {
        for hundred_thousand in 1..10 {
            let from = hundred_thousand * records::ROWS;
            tx.insert_all((from..from + records::ROWS).map(records::piece))?;
        }
        Ok(())
    })?;
    drawer.close()?;
    let kilobytes = |work: &str, who: &str, rows: u32| -> Result<u64> {
        let out = this()?.args([ONE, work, who, &rows.to_string()]).arg(&path).output()?;
        let said = String::from_utf8(out.stdout)?;
        Ok(said.split_whitespace().nth(1).ok_or("the process said nothing")?.parse()?)
    };
    let peak = |rows| kilobytes("stream", "ours", rows);
    table.at_most("stream 1,000,000 rows: KB above streaming 10", peak(1_000_000)?.saturating_sub(peak(10)?), 4_096);
    let held = |who| kilobytes("hold", who, records::ROWS);
    let above = held("ours")?.saturating_sub(held("hand")?) * 1_024 / u64::from(records::ROWS);
    table.at_most("a followed list of 100,000: bytes for each record above the records", above, 64);
    Ok(())
}
