//! Persistence across real processes: kills, several at once, the very first open.
//!
//! The processes are this test program again, started by the pretend phone for the test called `app`.

mod common;

use common::{Glaze, Piece, glaze, piece, schema};
use std::io::Write;
use std::process::Command;
use std::thread;
use std::time::Duration;
use velvet_drawer::{Drawer, Key};
use velvet_phone::{Phone, Running, Sandbox};

const ROLE: &str = "VELVET_TEST_ROLE";

fn start(sandbox: &Sandbox, role: &str) -> Running {
    let mut command = Command::new(std::env::current_exe().unwrap());
    command.args(["--exact", "app", "--nocapture"]).env(ROLE, role);
    sandbox.start(command).unwrap()
}

fn say(line: &str) {
    println!("{line}");
    std::io::stdout().flush().unwrap();
}

/// What the processes do; nothing where this is run as an ordinary test.
#[test]
fn app() {
    let Ok(role) = std::env::var(ROLE) else { return };
    let path = velvet_phone::app::folders().unwrap().durable.join("kiln.drawer");
    let drawer = Drawer::options().wait(Duration::from_secs(30)).open(path, schema()).unwrap();
    match role.as_str() {
        "write for ever" => {
            for n in drawer.count::<Piece>().unwrap().. {
                let pair = drawer.write(|tx| {
                    let glaze = tx.insert(glaze(&n.to_string()))?;
                    tx.insert(Piece { glaze: Some(glaze.key()), remarks: "x".repeat(3_000), ..piece(&n.to_string()) })
                });
                pair.unwrap();
                say(&format!("kept {}", n + 1));
            }
        }
        "count up" => {
            let key = Key::<Piece>::from_number(1);
            for _ in 0..50 {
                drawer.change(key, |p| p.grams = p.grams.map(|g| g + 1)).unwrap();
            }
        }
        mark => {
            drawer.insert(piece(mark)).unwrap();
        }
    }
}

#[test]
fn what_was_acknowledged_survives_a_kill_and_nothing_is_half_there() {
    let phone = Phone::temporary().unwrap();
    let sandbox = phone.sandbox("kilnbook").unwrap();
    let mut acknowledged = 0;
    for round in 0..15 {
        let mut running = start(&sandbox, "write for ever");
        running.wait_for("kept").unwrap();
        thread::sleep(Duration::from_millis(round * 7 % 40));
        for line in running.kill().unwrap() {
            if let Some((_, number)) = line.split_once("kept ") {
                acknowledged = number.parse().unwrap();
            }
        }
        let drawer = Drawer::open(sandbox.durable().join("kiln.drawer"), schema()).unwrap();
        let (pieces, glazes) = (drawer.count::<Piece>().unwrap(), drawer.count::<Glaze>().unwrap());
        assert!(pieces >= acknowledged, "{acknowledged} were acknowledged, {pieces} are there");
        assert_eq!(pieces, glazes, "half a transaction is there");
        assert!(pieces <= acknowledged + 1);
        drawer.close().unwrap();
    }
    assert!(acknowledged > 15);
}

#[test]
fn processes_that_open_a_new_drawer_at_the_same_time_share_it() {
    for _ in 0..4 {
        let phone = Phone::temporary().unwrap();
        let sandbox = phone.sandbox("kilnbook").unwrap();
        let running: Vec<Running> = ["A", "B", "C", "D"].iter().map(|mark| start(&sandbox, mark)).collect();
        for app in running {
            let (status, said) = app.quit().unwrap();
            assert!(status.success(), "{said:?}");
        }
        let drawer = Drawer::open(sandbox.durable().join("kiln.drawer"), schema()).unwrap();
        assert_eq!(drawer.count::<Piece>().unwrap(), 4);
    }
}

#[test]
fn processes_that_change_one_record_lose_no_update() {
    let phone = Phone::temporary().unwrap();
    let sandbox = phone.sandbox("kilnbook").unwrap();
    let drawer = Drawer::open(sandbox.durable().join("kiln.drawer"), schema()).unwrap();
    let key = drawer.insert(piece("K-1")).unwrap().key();
    let running = [start(&sandbox, "count up"), start(&sandbox, "count up")];
    for app in running {
        assert!(app.quit().unwrap().0.success());
    }
    assert_eq!(drawer.get(key).unwrap().unwrap().grams, Some(740));
}
