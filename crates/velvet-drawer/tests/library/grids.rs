//! Tables of text: fitted to a width, numbers in line, nothing lost silently.

use velvet_core::exchange::show;
use velvet_drawer::grid::Grid;
use velvet_drawer::inspect::ValueRef;

fn grid() -> Grid {
    let mut grid = Grid::new(["number", "text", "more"]);
    let long = "a long text that goes on";
    for (x, text) in [(Some(1.5), long), (Some(22.125), "陶器と釉薬"), (None, "short")] {
        let number = x.map_or(ValueRef::Missing, ValueRef::Real);
        grid.row([number, ValueRef::Text(text), ValueRef::Bytes(&[1, 2])].map(|v| show::shown(v, None)).to_vec());
    }
    grid
}

#[test]
fn a_table_that_fits_is_shown_whole_with_points_in_line() {
    let whole = concat!(
        "number  text                      more\n",
        "────────────────────────────────────────────────────\n",
        " 1.5    a long text that goes on  <2 bytes: 01 02>\n",
        "22.125  陶器と釉薬                <2 bytes: 01 02>\n",
        "     –  short                     <2 bytes: 01 02>\n",
    );
    let lines =
        |text: &str| text.lines().map(|l| l.trim_end().to_owned()).filter(|l| !l.starts_with('─')).collect::<Vec<_>>();
    assert_eq!(lines(&grid().to_string()), lines(whole));
    assert_eq!(grid().fit(Some(200)).to_string(), grid().to_string());
    assert!(grid().to_string().lines().all(|line| !line.ends_with(' ')), "{}", grid());
}

#[test]
fn a_narrow_table_cuts_long_texts_by_what_the_terminal_shows() {
    let mut grid = Grid::new(["number", "text"]);
    for text in ["a text that goes on and on", "陶器と釉薬の帳面の長い名前", "short"] {
        grid.row([ValueRef::Real(-1e25), ValueRef::Text(text)].map(|v| show::shown(v, None)).to_vec());
    }
    let narrow = grid.fit(Some(50)).to_string();
    assert!(narrow.contains("  a text that goes on …\n") && narrow.contains("  陶器と釉薬の帳面の長…\n"), "{narrow}");
    assert_eq!(narrow.matches("-10000000000000000000000000").count(), 3, "a number is never cut");
    let mut paths = Grid::new(["file", "photo", "size"]).whole("file");
    for path in ["phone/kilnbook/durable/kiln.drawer", "phone/kilnbook/durable/kilns.drawer"] {
        let values = [ValueRef::Text(path), ValueRef::Bytes(&[7; 40]), ValueRef::Integer(1)];
        paths.row(values.map(|v| show::shown(v, None)).to_vec());
    }
    let narrow = paths.fit(Some(55)).to_string();
    assert!(narrow.contains("kilnbook/durable/kiln.drawer   <40 bytes: …     1\n"), "{narrow}");
}

/// Three columns that say something, one that does not, and a long text.
fn sessions() -> Grid {
    let mut grid = Grid::new(["session", "began", "app", "wrote"]).long("wrote").dispensable(&["app"]);
    for (number, began) in [(1, "2025-03-08 09:14:07"), (2, "2025-03-09 10:00:00")] {
        let wrote = "article +4800, firing +3, piece +24, shelf +2, glaze +12";
        let wrote = if number == 1 { ValueRef::Text(wrote) } else { ValueRef::Missing };
        let values = [ValueRef::Integer(number), ValueRef::Text(began), ValueRef::Text("1.0"), wrote];
        grid.row(values.map(|v| show::shown(v, None)).to_vec());
    }
    grid
}

#[test]
fn a_long_text_breaks_beside_the_others_or_goes_below_them() {
    let at = |width| sessions().fit(Some(width)).to_string();
    assert_eq!(at(96).lines().count(), 4, "{}", at(96));
    assert!(
        at(80).contains("article +4800, firing +3, piece +24, shelf\n") && at(80).contains("  app  "),
        "{}",
        at(80)
    );
    assert!(at(70).ends_with("1 column not shown: app\n") && at(70).contains("  article +4800"), "{}", at(70));
    let below = concat!(
        "session  began                app\n",
        "    wrote\n",
        "─────────────────────────────────\n",
        "      1  2025-03-08 09:14:07  1.0\n",
        "    article +4800, firing +3, piece\n",
        "    +24, shelf +2, glaze +12\n",
        "      2  2025-03-09 10:00:00  1.0\n",
    );
    assert_eq!(at(36), below);
    assert!(sessions().every_column(true).fit(Some(70)).to_string().contains("  app\n    wrote\n"));
    // Half of the columns that can be done without may go for it, and no more.
    let with = |width| {
        let mut grid =
            Grid::new(["n", "one", "two", "three", "text"]).long("text").dispensable(&["one", "two", "three"]);
        let long = "a word ".repeat(20);
        let texts = ["1234567890", "1234567890", "1234567890", &long].map(ValueRef::Text);
        let values = std::iter::once(ValueRef::Integer(1)).chain(texts);
        grid.row(values.map(|v| show::shown(v, None)).collect());
        grid.fit(Some(width)).to_string()
    };
    assert!(with(51).starts_with("n  three       text\n"), "{}", with(51));
    assert!(with(50).starts_with("n  one         two         three\n    text\n"), "{}", with(50));
}

#[test]
fn columns_that_say_least_are_left_out_and_named_or_rows_become_blocks() {
    let with = |width| {
        let mut grid = Grid::new(["key", "stage", "mark", "remarks", "clay"]);
        for (key, mark) in [(1, "K-101"), (2, "K-102")] {
            let texts = ["glazed", mark, "Foot trimmed twice", "porcelain"].map(ValueRef::Text);
            let values = std::iter::once(ValueRef::Integer(key)).chain(texts);
            grid.row(values.map(|v| show::shown(v, None)).collect());
        }
        grid.fit(Some(width)).all_with("ask for all")
    };
    // The same in all rows first, then the last; the first never.
    let narrow = with(16).to_string();
    assert!(narrow.starts_with("key  mark\n") && narrow.contains("  2  K-102\n"), "{narrow}");
    let hidden = narrow.lines().skip(4).collect::<Vec<_>>().join(" ");
    assert_eq!(hidden, "3 columns not shown: stage, remarks, clay; ask for all");
    let block =
        "key      1\nstage    glazed\nmark     K-101\nremarks  Foot trimmed twice\nclay     porcelain\n\nkey      2\n";
    assert!(with(16).every_column(true).to_string().starts_with(block), "{}", with(16).every_column(true));
    assert!(with(6).to_string().starts_with(block), "not even two fit: {}", with(6));
    assert_eq!(with(200).every_column(true).to_string(), with(200).to_string());
}
