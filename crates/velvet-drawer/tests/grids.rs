//! Tables of text: fitted to a width, numbers in line, nothing lost silently.
#![cfg(feature = "table")]

use velvet_core::show;
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
}

#[test]
fn a_narrow_table_cuts_its_widest_columns_by_what_the_terminal_shows() {
    let narrow = grid().fit(Some(30)).to_string();
    assert!(narrow.contains("a long te…") && narrow.contains("<2 bytes:…"), "{narrow}");
    assert!(narrow.contains("陶器と釉薬"), "{narrow}");
    let narrower = grid().fit(Some(27)).to_string();
    assert!(narrower.contains("陶器と釉…"), "{narrower}");
}

#[test]
fn columns_that_find_no_place_are_named() {
    let tiny = grid().fit(Some(20)).to_string();
    assert!(tiny.ends_with("… and 1 column not shown: more\n"), "{tiny}");
}
