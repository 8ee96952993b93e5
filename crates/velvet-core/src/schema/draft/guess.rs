//! What a table of a plain file may be declared as, by what the file says of it and by its values.

use super::Drafted;
use crate::schema::structure::{ColumnDefinition, Index, Kind, OnDelete, Table};
use crate::value::ValueRef;
use crate::value::name::KEY_COLUMN;
use std::collections::BTreeSet;

/// How many different texts a choice has at most, and how often each comes at least on average.
const MOST_CHOICES: usize = 8;
const TIMES_EACH: u64 = 4;

/// The longest text that is taken for the name of a choice, in bytes.
const LONGEST_CHOICE: usize = 32;

/// Moments between the years 1990 and 2100, in seconds since 1970.
const MOMENTS: std::ops::Range<i64> = 631_152_000..4_102_444_800;

/// A table of a plain file.
#[derive(Clone, Debug, Default)]
pub struct PlainTable {
    /// Its name.
    pub name: String,
    /// Its columns, in order.
    pub columns: Vec<PlainColumn>,
    /// The columns of its primary key.
    pub primary_key: Vec<String>,
    /// Its indexes: the columns, and whether they are unique.
    pub indexes: Vec<(Vec<String>, bool)>,
}

/// A column of a plain file.
#[derive(Clone, Debug, Default)]
pub struct PlainColumn {
    /// Its name.
    pub name: String,
    /// The type that the file declares, in large letters.
    pub storage: String,
    /// Whether it is the number of the row.
    pub is_row_number: bool,
    /// Whether it must hold something.
    pub required: bool,
    /// Whether its texts are the same where only large and small letters differ.
    pub ignores_case: bool,
    /// Whether it is computed of others.
    pub is_computed: bool,
    /// The literal of its default.
    pub default: Option<String>,
    /// The table that it links to, the column there, and what happens on removal, as the file says it.
    pub link: Option<(String, String, String)>,
    /// What is in it.
    pub values: Values,
}

/// What the values of a column have in common.
#[derive(Clone, Debug, Default)]
pub struct Values {
    missing: u64,
    integers: u64,
    reals: u64,
    texts: u64,
    bytes: u64,
    bits: u64,
    moments: [u64; 3],
    dates: u64,
    date_times: u64,
    timestamps: u64,
    different: BTreeSet<String>,
}

impl Values {
    /// Adds a value.
    pub fn add(&mut self, value: ValueRef<'_>) {
        match value {
            ValueRef::Missing => self.missing += 1,
            ValueRef::Integer(n) => {
                self.integers += 1;
                self.bits += u64::from(n == 0 || n == 1);
                for (at, scale) in [1, 1_000, 1_000_000].into_iter().enumerate() {
                    self.moments[at] += u64::from(MOMENTS.contains(&(n / scale)));
                }
            }
            ValueRef::Real(_) => self.reals += 1,
            ValueRef::Bytes(_) | ValueRef::BrokenText(_) => self.bytes += 1,
            ValueRef::Text(text) => {
                self.texts += 1;
                let is_date = text.len() == 10 && text.parse::<jiff::civil::Date>().is_ok();
                let is_moment = text.len() > 10 && text.parse::<jiff::Timestamp>().is_ok();
                self.dates += u64::from(is_date);
                self.timestamps += u64::from(is_moment);
                self.date_times +=
                    u64::from(text.len() > 10 && !is_moment && text.parse::<jiff::civil::DateTime>().is_ok());
                if self.different.len() <= MOST_CHOICES {
                    self.different.insert(text.to_owned());
                }
            }
        }
    }

    fn there(&self) -> u64 {
        self.integers + self.reals + self.texts + self.bytes
    }

    fn are_choices(&self) -> bool {
        let few = self.different.len() <= MOST_CHOICES && self.texts >= TIMES_EACH * self.different.len() as u64;
        let is_name = |text: &String| text.len() <= LONGEST_CHOICE && text.starts_with(char::is_alphabetic);
        few && self.different.len() > 1 && self.different.iter().all(is_name)
    }
}

/// The table as it may be declared. `row_numbered` says whether a table's rows are known by the column of that name, which is their row number.
pub fn guessed(table: &PlainTable, row_numbered: impl Fn(&str, &str) -> bool) -> Drafted {
    let mut draft = Drafted { name: table.name.clone(), ..Drafted::default() };
    let odd = |name: &str| name.is_empty() || name.contains(|c: char| !(c.is_alphanumeric() || matches!(c, '_' | '-')));
    let stored: Vec<&PlainColumn> = table.columns.iter().filter(|c| !c.is_row_number).collect();
    for name in std::iter::once(&table.name).chain(stored.iter().map(|c| &c.name)) {
        if odd(name) {
            let what = if *name == table.name { "its name".to_owned() } else { format!("the column {name:?}") };
            let note = format!(
                "{what} cannot be declared: names are made of letters, digits, `_` and `-`. Rename it in the file first"
            );
            draft.notes.push((None, note));
        } else if name.eq_ignore_ascii_case(KEY_COLUMN) && *name != table.name {
            draft.notes.push((None, format!("the column {name:?} cannot be declared: every table gets a column `key` for its row numbers. Rename it in the file first")));
        }
    }
    if stored.is_empty() {
        draft.notes.push((None, "it has no column but the number of its rows, and a record needs one".to_owned()));
    }
    if !draft.notes.is_empty() {
        return draft;
    }
    let own_key = match &table.primary_key[..] {
        [one] => stored.iter().find(|c| c.name == *one && c.values.missing == 0).map(|c| c.name.clone()),
        _ => None,
    };
    let unique = |name: &str| table.indexes.iter().any(|(columns, unique)| *unique && columns[..] == [name.to_owned()]);
    let columns = stored.into_iter().map(|column| {
        let (kind, note) = kind(column, &row_numbered);
        draft.notes.extend(note.map(|note| (Some(column.name.clone()), note)));
        if column.is_computed {
            let note = "The file computes it; its values stay as they are, and the app fills it from then on";
            draft.notes.push((Some(column.name.clone()), note.to_owned()));
        }
        let is_own_key = own_key.as_deref() == Some(&column.name);
        let links = matches!(kind, Kind::Link { .. });
        ColumnDefinition {
            optional: !is_own_key && (!column.required || column.values.missing > 0),
            default: column.default.clone().filter(|_| column.required && !is_own_key && !links),
            on_delete: links.then(|| match column.link.as_ref().map(|(.., action)| action.as_str()) {
                Some("CASCADE") => OnDelete::Remove,
                Some("SET NULL") if !column.required => OnDelete::Clear,
                _ => OnDelete::Refuse,
            }),
            ignore_case: column.ignores_case && kind == Kind::Text && (is_own_key || unique(&column.name)),
            name: column.name.clone(),
            kind,
            private: false,
            remove_unlinked: false,
        }
    });
    let columns: Vec<ColumnDefinition> = columns.collect();
    let is_own_key = |columns: &[String]| own_key.as_ref().is_some_and(|own| columns == [own.clone()]);
    let mut indexes: Vec<Index> = table
        .indexes
        .iter()
        .filter(|(on, _)| !is_own_key(on) && on.iter().all(|name| columns.iter().any(|c| c.name == *name)))
        .map(|(columns, unique)| Index { columns: columns.clone(), unique: *unique })
        .collect();
    if table.primary_key.len() > 1 && !indexes.iter().any(|i| i.unique && i.columns == table.primary_key) {
        indexes.push(Index { columns: table.primary_key.clone(), unique: true });
    }
    draft.table =
        Some(Table { name: table.name.clone(), columns, own_key, indexes, searchable: Vec::new(), shared: false });
    draft
}

/// What a column holds, and what is to be said about it.
fn kind(column: &PlainColumn, row_numbered: impl Fn(&str, &str) -> bool) -> (Kind, Option<String>) {
    let PlainColumn { storage, values, .. } = column;
    let declares = |word: &str| storage.contains(word);
    let all = |count: u64| count > 0 && count == values.there();
    let converted = |what: &str| {
        Some(format!("{what}, so opening refuses it with the conversion to give: Options::adopt_converting"))
    };
    if let Some((table, to, _)) = &column.link {
        if row_numbered(table, to) {
            return (Kind::Link { table: table.clone() }, None);
        }
        let note = format!("It leads to `{table}.{to}`, which is no row number, so it stays a value");
        return (by_values(column), Some(note));
    }
    let of_time = declares("DATE") || declares("TIME") || is_named_after_time(&column.name);
    let scale = values.moments.iter().position(|count| all(*count));
    match scale {
        Some(scale) if of_time => {
            let unit = ["seconds", "milliseconds", "microseconds"][scale];
            return (Kind::Timestamp, converted(&format!("The file counts {unit} since 1970")));
        }
        _ => {}
    }
    if declares("BOOL") && (values.there() == 0 || all(values.bits)) {
        return (Kind::Bool, None);
    }
    if all(values.dates) {
        return (Kind::Date, None);
    }
    if all(values.timestamps) {
        return (Kind::Timestamp, None);
    }
    if all(values.date_times) {
        let is_utc = column.default.as_deref().is_some_and(|d| d.to_ascii_uppercase().contains("CURRENT_TIMESTAMP"));
        return match is_utc {
            true => (Kind::Timestamp, converted("The file has it in UTC without saying so")),
            false => {
                (Kind::DateTime, converted("The file has it in another form (take jiff::Timestamp if it is in UTC)"))
            }
        };
    }
    if all(values.texts) && values.are_choices() && column.link.is_none() {
        let values = values.different.iter().cloned().collect();
        return (Kind::Choice { values, fallback: false }, None);
    }
    let kinds = [values.integers + values.reals, values.texts, values.bytes].iter().filter(|n| **n > 0).count();
    let mixed = (kinds > 1).then(|| converted("Its values are of several types")).flatten();
    (by_values(column), mixed)
}

/// The plain type that takes its values; of a column without any, that which the file declares.
fn by_values(PlainColumn { storage, values, .. }: &PlainColumn) -> Kind {
    if values.there() > 0 {
        return match values {
            Values { texts: 1.., .. } => Kind::Text,
            Values { bytes: 1.., .. } => Kind::Bytes,
            Values { reals: 1.., .. } => Kind::F64,
            _ if ["REAL", "FLOA", "DOUB"].iter().any(|word| storage.contains(word)) => Kind::F64,
            _ => Kind::I64,
        };
    }
    let declares = |words: &[&str]| words.iter().any(|word| storage.contains(word));
    if declares(&["INT"]) {
        Kind::I64
    } else if declares(&["CHAR", "CLOB", "TEXT", "DATE", "TIME"]) {
        Kind::Text
    } else if declares(&["REAL", "FLOA", "DOUB", "NUM", "DEC"]) {
        Kind::F64
    } else if storage.is_empty() || declares(&["BLOB"]) {
        Kind::Bytes
    } else {
        Kind::I64
    }
}

fn is_named_after_time(name: &str) -> bool {
    let name = name.to_ascii_lowercase();
    ["_at", "_on", "_time", "_date", "_ts"].iter().any(|end| name.ends_with(end))
        || ["at", "date", "time", "timestamp", "created", "changed", "modified", "updated"].contains(&name.as_str())
        || ["createdat", "updatedat", "changedat", "modifiedat"].contains(&name.as_str())
}
