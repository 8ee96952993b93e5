//! The real command on the demo's data, which the real demo makes: what it shows of a file.

use crate::common;
use common::{DEMO, drawer, fails, json, newest, records, succeeds, velvet};
use serde_json::Value;
use std::fs;
use std::path::Path;
use velvet_drawer::{Drawer, KeysInMemory, Record, Schema, Trail};

#[test]
fn overview_tells_what_a_file_and_a_folder_hold() {
    let file = drawer();
    let text = succeeds(&["overview", &file]);
    assert!(text.starts_with("kiln-at-version-1.drawer, 5"), "{text}");
    assert!(text.contains("App kilnbook, schema version 1, created 20"), "{text}");
    assert!(text.contains("article  records  4800        5   467 KB"), "{text}");
    assert!(!text.contains('\u{1b}'), "no colour in a pipe");

    let overview: Value = serde_json::from_str(&succeeds(&["overview", &file, "--as", "json"])).unwrap();
    assert_eq!(overview["tables"][0]["name"], "piece");
    assert_eq!(overview["tables"][0]["rows"], 25);
    assert_eq!(overview["notes"], Value::Array(vec![]));

    let folder = velvet(&["overview", DEMO.0.path().to_str().unwrap(), "--as", "csv"]).output().unwrap();
    let beside = String::from_utf8(folder.stderr).unwrap();
    assert!(beside.contains("Note: damaged.drawer: the rows of `article` cannot be counted."), "{beside}");
    let folder = String::from_utf8(folder.stdout).unwrap();
    let rows: Vec<&str> = folder.lines().collect();
    assert_eq!((rows[0], rows.len()), ("file,app,version,tables,rows,bytes", 13));
    let bytes = fs::metadata(&file).unwrap().len();
    assert_eq!(rows[3], format!("kiln-at-version-1.drawer,kilnbook,1,3,4828,{bytes}"));

    let grown = succeeds(&["overview", &newest()]);
    assert!(grown.contains("\nVersions: 1 by app 1.0 on 20"), "{grown}");
    let grown: Value = serde_json::from_str(&succeeds(&["overview", &newest(), "--as", "json"])).unwrap();
    assert_eq!(grown["versions"][2]["app_version"], "3.0");
}

#[test]
fn records_show_missing_empty_bytes_and_numbers_each_in_its_way() {
    let filter = "mark in ('K-121', 'K-124', 'K-101')";
    let columns = "mark,wt,glaze,firing,thumbnail,remarks";
    assert_eq!(
        records(&["piece", "--filter", filter, "--columns", columns]),
        [
            "mark     wt  glaze  firing  thumbnail                                           remarks\n",
            &"─".repeat(189),
            "\nK-101  0.24  \"\"          1  <438 bytes: 89 50 4e 47 0d 0a 1a 0a 00 00 00 0d …>  \"\"\n",
            "K-121  1.08  \"\"          –  <427 bytes: 89 50 4e 47 0d 0a 1a 0a 00 00 00 0d …>  ",
            "Gift for the neighbour\\nwho lent us the trailer\n",
            "K-124     –  \"\"          –  –                                                   Test of the new clay: ",
            "throws well, dries slowly, and the surface takes a stamp better than anything before it\n\n3 rows\n",
        ]
        .concat()
    );
}

#[test]
fn records_come_out_as_json_and_csv_with_their_types() {
    let firing = &json(&["firing", "--limit", "1"])[0];
    assert_eq!(firing["even"], true);
    assert_eq!(firing["readings"][1]["celsius"], 385);
    assert_eq!(firing["wood"], 212.5);
    assert_eq!(firing["lit_at"], "2025-03-02T06:15:00.000000000Z");
    let piece = &json(&["piece", "--filter", "mark = 'K-124'"])[0];
    assert_eq!((&piece["wt"], &piece["glaze"]), (&Value::Null, &Value::String(String::new())));
    assert_eq!(json(&["piece", "--filter", "mark = 'none'"]), [Value::Null; 0]);
    assert_eq!(json(&["article"]).len(), 4800, "only a table is cut");

    let csv = records(&[
        "piece",
        "--filter",
        "mark in ('K-105', 'K-124')",
        "--columns",
        "mark,wt,glaze,remarks",
        "--as",
        "csv",
    ]);
    let lines: Vec<&str> = csv.split('\n').collect();
    assert_eq!(lines[0], "mark,wt,glaze,remarks");
    assert_eq!(lines[1], "K-105,0.788,ash over iron,\"Gift for the neighbour");
    assert_eq!(lines[2], "who lent us the trailer\"");
    assert!(lines[3].starts_with("K-124,\\N,,\"Test of the new clay"), "{}", lines[3]);
}

#[test]
fn records_sort_page_and_say_where_they_are() {
    let marks = |more: &[&str]| -> String {
        let rows = json(&[&["piece", "--columns", "mark"], more].concat());
        rows.iter()
            .map(|r| r["mark"].as_str().unwrap().trim_start_matches("K-").to_owned())
            .collect::<Vec<_>>()
            .join(" ")
    };
    assert_eq!(marks(&["--sort", "wt desc,mark", "--limit", "3"]), "113 112 125");
    assert_eq!(marks(&["--sort", "STAGE, mark desc", "--limit", "2", "--offset", "1"]), "116 115");
    let table = records(&["art", "--limit", "2", "--offset", "10", "--columns", "numb"]);
    assert!(table.ends_with("\nrows 11 to 12 of 4800; more with --limit and --offset\n"), "{table}");
    assert!(records(&["article"]).contains("rows 1 to 50 of 4800"));
    assert!(records(&["piece", "--offset", "99"]).contains("no row after the first 99; there are 25 rows"));
}

#[test]
fn what_cannot_be_done_is_said_with_the_nearest_name() {
    let file = drawer();
    let empty = tempfile::tempdir().unwrap();
    let text = empty.path().join("notes.txt");
    fs::write(&text, "x".repeat(200)).unwrap();
    let (empty, text) = (empty.path().to_str().unwrap(), text.to_str().unwrap());
    let says = |arguments: &[&str], words: &str| {
        let message = fails(arguments);
        assert!(message.contains(words), "{message}");
    };
    says(&["overview", "nowhere.drawer"], "it does not exist. Check the path. File: ");
    says(&["overview", empty], "no drawer in");
    says(&["records", empty, "piece"], "no drawer in");
    says(&["overview", text], "the file is no database, or an encrypted one");
    says(&["records", &file, "peice"], "there is no table `peice` in the file. Did you mean `piece`?");
    says(
        &["records", &file, "piece", "--sort", "th"],
        "could be several of the columns of `piece`: thrown_on, thumbnail",
    );
    says(&["records", &file, "piece", "--filter", "stag = 'x'"], "Did you mean `stage`?");
    says(
        &["records", &file, "piece", "--columns", "mark,grams"],
        "there is no column `grams` in `piece`. It has: key, mark",
    );
}

#[test]
fn structure_comes_out_for_people_programs_and_drawings() {
    let text = succeeds(&["structure", &drawer()]);
    assert!(text.starts_with("piece\ncolumn     stored as  rules              holds\n"), "{text}");
    assert!(
        text.contains("\nfiring     integer    optional, indexed  a link to firing, cleared when that is removed\n"),
        "{text}"
    );
    let json: Value = serde_json::from_str(&succeeds(&["structure", &drawer(), "--as", "json"])).unwrap();
    assert_eq!(json["tables"][0]["columns"][7]["links_to"]["table"], "firing");
    let sql = succeeds(&["structure", &drawer(), "--as", "sql"]);
    assert!(sql.starts_with("CREATE TABLE \"piece\" (\n  \"key\" INTEGER PRIMARY KEY AUTOINCREMENT,"), "{sql}");
    let diagram = succeeds(&["structure", &newest(), "--as", "diagram"]);
    assert!(
        diagram.starts_with("digraph drawer {") && diagram.contains("\"piece\" -> \"glaze\" [label = \"glaze\"]"),
        "{diagram}"
    );
}

#[test]
fn a_folder_with_one_drawer_stands_for_it_and_with_several_is_asked_about() {
    let folder = tempfile::tempdir().unwrap();
    let copy = |name: &str| fs::copy(drawer(), folder.path().join(name)).unwrap();
    copy("one.drawer");
    let path = folder.path().to_str().unwrap();
    assert!(succeeds(&["records", path, "firing"]).ends_with("3 rows\n"));
    copy("two.drawer");
    let message = fails(&["records", path, "firing"]);
    assert!(message.contains("has 2 drawers; name the one you mean:\n  "), "{message}");
    assert!(message.contains("two.drawer"), "{message}");
}

#[test]
fn any_reading_statement_is_run_and_no_other() {
    let query = |text: &str| succeeds(&["query", &drawer(), text, "--as", "csv"]);
    assert_eq!(
        query("select clay, count(*) as n from piece group by clay order by n"),
        "clay,n\nearthenware,6\nporcelain,6\nstoneware,13\n"
    );
    assert_eq!(query("select 1 as empty where 0"), "empty\n");
    let limited = succeeds(&["query", &drawer(), "select key from article", "--limit", "2"]);
    assert!(limited.ends_with("the first 2 rows; there are more, and --limit shows them\n"), "{limited}");
    for (text, said) in [
        ("delete from piece", "it does more than read"),
        ("select * from peice", "there is no table `peice`. Nothing was read. Did you mean `piece`?"),
        ("select makr from piece", "there is no column `makr`. Nothing was read. Did you mean `mark`?"),
        ("select mak from firing", "there is no column `mak`. Nothing was read. `velvet structure FILE` shows"),
        ("select 1; select 2", "it is more than one statement"),
        ("vacuum into '/tmp/velvet-must-not-be.db'", "it does more than read"),
        ("attach '/tmp/velvet-must-not-be.db' as x", "not authorized"),
    ] {
        let message = fails(&["query", &drawer(), text]);
        assert!(message.contains(said) && message.contains("Nothing was read"), "{message}");
    }
    assert!(!Path::new("/tmp/velvet-must-not-be.db").exists());
}

#[test]
fn rows_come_in_the_order_of_insertion_or_of_keys_or_of_declared_choices() {
    let folder = tempfile::tempdir().unwrap();
    let copy = folder.path().join("copy.drawer");
    fs::copy(drawer(), &copy).unwrap();
    let other = rusqlite::Connection::open(&copy).unwrap();
    other
        .execute_batch("UPDATE piece SET mark = 'K-000' WHERE key = 25; UPDATE piece SET stage = 'lost' WHERE key = 1")
        .unwrap();
    drop(other);
    let first = |more: &[&str]| {
        let mut all =
            vec!["records", copy.to_str().unwrap(), "piece", "--limit", "2", "--columns", "mark,stage", "--as", "csv"];
        all.extend(more);
        succeeds(&all).lines().skip(1).collect::<Vec<_>>().join(" ")
    };
    assert_eq!(first(&[]), "K-101,lost K-102,glazed");
    assert_eq!(first(&["--order", "own-key"]), "K-000,thrown K-101,lost");
    assert_eq!(first(&["--sort", "stage declared"]), "K-118,thrown K-119,thrown");
    assert_eq!(first(&["--sort", "stage declared desc", "--order", "own-key"]), "K-101,lost K-102,glazed");
    let message = fails(&["records", copy.to_str().unwrap(), "piece", "--sort", "mark declared"]);
    assert!(message.contains("`mark` has no declared order: it holds no choice"), "{message}");
}

#[derive(Record)]
struct Client {
    #[record(own_key, searchable)]
    name: String,
    #[record(sealed)]
    phone: Option<String>,
}

#[test]
fn what_is_sealed_is_shown_as_sealed_by_every_command() {
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("kiln.drawer");
    let schema = Schema::new("kilnbook").record::<Client>();
    let drawer = Drawer::options().trail(Trail::Before).keys(KeysInMemory::default()).open(&path, schema).unwrap();
    let ann = drawer.insert(Client { name: "Ann".into(), phone: Some("555 0100".into()) }).unwrap();
    drawer.change(ann.key(), |c| c.phone = Some("555 0199".into())).unwrap();
    drawer.insert(Client { name: "Bo".into(), phone: None }).unwrap();
    drawer.close().unwrap();
    let file = path.to_str().unwrap();
    let copy = folder.path().join("copy.drawer").to_str().unwrap().to_owned();
    let commands: [(&[&str], &str); 9] = [
        (&["overview", file], "Sealed columns: client.phone; only the app, with its key, can read them"),
        (&["records", file, "client"], "Ann   (sealed)"),
        (&["one", file, "client", "Ann"], "phone  (sealed)"),
        (&["search", file, "ann"], "Ann"),
        (&["query", file, "SELECT phone FROM client"], "(sealed)"),
        (&["structure", file], "text, sealed as `client.phone`"),
        (&["trail", file], "phone (sealed) → (sealed)"),
        (&["records", file, "client", "--as", "json"], "\"phone\":{\"sealed\":\"02"),
        (&["copy", file, "--to", &copy], "copy.drawer"),
    ];
    for (command, shows) in commands {
        let said = succeeds(command);
        assert!(said.contains(shows) && !said.contains("555 0100"), "{command:?}: {said}");
    }
    assert!(succeeds(&["compare", file, &copy]).contains("The files hold the same records."));
}

#[test]
fn a_record_with_another_key_or_none_is_found_by_the_one_it_had() {
    let file = newest();
    let shown = succeeds(&["one", &file, "piece", "K-104"]);
    assert!(shown.starts_with("Note: piece K-104 (row 4) is now K-140, changed by session 8 at "), "{shown}");
    assert!(shown.contains("piece, row 4\n") && shown.contains("Its trail:"), "{shown}");
    assert!(succeeds(&["trail", &file, "piece", "K-104"]).contains("mark K-104 → K-140"));
    assert!(succeeds(&["search", &file, "K-104"]).contains("Note: piece K-104 (row 4) is now K-140"));
    assert!(!succeeds(&["search", &file, "K-140"]).contains("Note:"));
    let json: Value = serde_json::from_str(&succeeds(&["one", &file, "piece", "K-104", "--as", "json"])).unwrap();
    assert_eq!((&json["record"]["row"], &json["formerly"][0]["now"]), (&4.into(), &"K-140".into()));

    #[derive(Record)]
    struct Pot {
        #[record(own_key)]
        mark: String,
    }
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("pots.drawer");
    let drawer = Drawer::options().trail(Trail::Before).open(&path, Schema::new("pots").record::<Pot>()).unwrap();
    let pots = drawer.insert_all(["A", "B", "C"].map(|mark| Pot { mark: mark.into() })).unwrap();
    drawer.remove(pots[0].key()).unwrap();
    drawer.change(pots[1].key(), |pot| pot.mark = "A".into()).unwrap();
    drawer.change(pots[1].key(), |pot| pot.mark = "D".into()).unwrap();
    drawer.change(pots[2].key(), |pot| pot.mark = "E".into()).unwrap();
    drawer.remove(pots[2].key()).unwrap();
    drawer.close().unwrap();
    let file = path.to_str().unwrap();
    let both = succeeds(&["one", file, "pot", "A"]);
    assert!(
        both.contains("pot A (row 2) is now D, changed by session 1") && both.contains("with # before it"),
        "{both}"
    );
    assert!(both.contains("pot A (row 1) was removed by session 1 at "), "{both}");
    let gone = succeeds(&["one", file, "pot", "C"]);
    assert!(
        gone.contains("pot C (row 3) got another key by session 1 at ") && gone.contains("was removed by"),
        "{gone}"
    );
    assert!(gone.contains("Its trail:") && gone.contains("removed"), "{gone}");
    assert!(succeeds(&["search", file, "E"]).contains("pot E (row 3) was removed by session 1"));
    assert!(fails(&["one", file, "pot", "Z"]).contains("there is no row \"Z\" in `pot`"));
    let none = succeeds(&["trail", file, "--session", "9"]);
    assert!(none.contains("No entry of the trail matches") && !none.contains("Options::trail"), "{none}");
}
