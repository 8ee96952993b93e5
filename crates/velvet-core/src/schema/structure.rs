//! The structure of a drawer: its tables, columns, links and indexes, as data.

use crate::value::Value;
use crate::value::name::KEY_COLUMN;
use serde::{Deserialize, Serialize};

/// The structure of a whole drawer.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct Structure {
    /// Its tables, in declared order.
    pub tables: Vec<Table>,
}

/// One table.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Table {
    /// Its name.
    pub name: String,
    /// Its columns in declared order, without the column of row numbers that every table has.
    pub columns: Vec<ColumnDefinition>,
    /// The column that tells one record from another, when the records have an own key.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub own_key: Option<String>,
    /// Its indexes, also those that make values unique.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub indexes: Vec<Index>,
    /// The columns whose words are searched, in the order of their names.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub searchable: Vec<String>,
    /// Whether what changes in it is kept, to be shared with other devices.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub shared: bool,
}

/// One column.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct ColumnDefinition {
    /// Its name.
    pub name: String,
    /// What it holds.
    #[serde(flatten)]
    pub kind: Kind,
    /// Whether it may hold nothing.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub optional: bool,
    /// What another program's insert gets when it names no value, as a literal.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub default: Option<String>,
    /// What happens to this record when the linked one is removed; only with a link.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub on_delete: Option<OnDelete>,
    /// Whether its values stay out of trails, and of copies that are made without what is private.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub private: bool,
    /// Whether the linked record is removed once nothing links to it any more; only with a link.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub remove_unlinked: bool,
    /// Whether its texts are the same where only large and small letters A to Z differ.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub ignore_case: bool,
}

/// One index.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct Index {
    /// The columns it orders by.
    pub columns: Vec<String>,
    /// Whether no two records may have the same values there.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub unique: bool,
}

/// What a column holds.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(tag = "type", rename_all = "kebab-case")]
pub enum Kind {
    /// A whole number, -128 to 127.
    I8,
    /// A whole number, -32,768 to 32,767.
    I16,
    /// A whole number of 32 bits.
    I32,
    /// A whole number of 64 bits.
    I64,
    /// A whole number, 0 to 255.
    U8,
    /// A whole number, 0 to 65,535.
    U16,
    /// A whole number of 32 bits, not below 0.
    U32,
    /// A whole number, 0 to 9,223,372,036,854,775,807.
    U64,
    /// A decimal number of single precision.
    F32,
    /// A decimal number of double precision.
    F64,
    /// 1 for true, 0 for false.
    Bool,
    /// Text.
    Text,
    /// Bytes.
    Bytes,
    /// A date as text: `2025-03-08`.
    Date,
    /// A time of day as text: `14:30:00.000000000`.
    Time,
    /// A date and time without a zone as text: `2025-03-08T14:30:00.000000000`.
    DateTime,
    /// A moment in UTC as text: `2025-03-08T14:30:00.000000000Z`.
    Timestamp,
    /// A duration in whole nanoseconds.
    Duration,
    /// A UUID as text.
    Uuid,
    /// JSON text.
    Json,
    /// The place of a file outside the drawer, as relative text.
    File,
    /// One of several names, as text.
    Choice {
        /// The declared names.
        values: Vec<String>,
        /// Whether one of them stands for names that are not declared.
        #[serde(default, skip_serializing_if = "std::ops::Not::not")]
        fallback: bool,
    },
    /// The row number of a record.
    Link {
        /// The table it is in.
        table: String,
    },
    /// Bytes that can be read only with the file's key.
    Sealed {
        /// What is sealed.
        holds: Box<Kind>,
        /// The label that the values are bound to: the table and column that they were first sealed in.
        label: String,
    },
}

/// What a table holds.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Holds {
    /// Records.
    Records,
    /// Names and values.
    NamedValues,
    /// Settings.
    Settings,
    /// Attachments; what is in them is in a table of its own.
    Attachments,
}

impl Holds {
    /// It, in words.
    pub fn in_words(self) -> &'static str {
        match self {
            Holds::Records => "records",
            Holds::NamedValues => "named values",
            Holds::Settings => "settings",
            Holds::Attachments => "attachments",
        }
    }
}

/// The table of attachments.
pub const ATTACHMENT: &str = "attachment";

/// The table of their parts.
pub const ATTACHMENT_PART: &str = "attachment_part";

/// What happens to a record when the one it links to is removed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum OnDelete {
    /// The linked record cannot be removed while a record links to it.
    Refuse,
    /// The link becomes nothing.
    Clear,
    /// This record is removed with it.
    Remove,
}

impl OnDelete {
    /// What happens, in words.
    pub fn in_words(self) -> &'static str {
        match self {
            OnDelete::Refuse => "removing it is refused",
            OnDelete::Clear => "the link is cleared",
            OnDelete::Remove => "this record is removed with it",
        }
    }
}

impl Kind {
    /// The engine's name for what is stored.
    pub fn storage(&self) -> &'static str {
        match self {
            Kind::I8 | Kind::I16 | Kind::I32 | Kind::I64 | Kind::U8 | Kind::U16 | Kind::U32 | Kind::U64 => "INTEGER",
            Kind::Bool | Kind::Duration | Kind::Link { .. } => "INTEGER",
            Kind::F32 | Kind::F64 => "REAL",
            Kind::Bytes | Kind::Sealed { .. } => "BLOB",
            Kind::Text | Kind::Date | Kind::Time | Kind::DateTime | Kind::Timestamp => "TEXT",
            Kind::Uuid | Kind::Json | Kind::File | Kind::Choice { .. } => "TEXT",
        }
    }
}

impl Structure {
    /// The table with this name.
    pub fn table(&self, name: &str) -> Option<&Table> {
        self.tables.iter().find(|t| t.name == name)
    }

    /// The links that lead to `table`: each as the table and column that hold it.
    pub fn links_to<'a>(&'a self, table: &'a str) -> impl Iterator<Item = (&'a Table, &'a ColumnDefinition)> {
        let leads_there = move |c: &&ColumnDefinition| matches!(&c.kind, Kind::Link { table: t } if t == table);
        self.tables.iter().flat_map(move |t| t.columns.iter().filter(leads_there).map(move |c| (t, c)))
    }

    /// What is wrong with it as a whole, each as a sentence: names used twice, links that lead nowhere.
    pub fn problems(&self) -> Vec<String> {
        let mut problems = Vec::new();
        for (position, table) in self.tables.iter().enumerate() {
            if self.tables[..position].iter().any(|t| t.name.eq_ignore_ascii_case(&table.name)) {
                problems.push(format!(
                    "two records are stored in the table `{0}`; give one another name with #[record(name = \"…\")], \
                     or register it once",
                    table.name
                ));
            }
            if table.shared && table.own_key.is_none() {
                problems.push(format!(
                    "`{}` is shared, but its records have no own key, by which other devices could know them; mark \
                     a field with #[record(own_key)]",
                    table.name
                ));
            }
            for column in table.columns.iter().filter(|c| c.private) {
                let is_unique = |i: &Index| i.unique && i.columns.contains(&column.name);
                let blank = column.blank().filter(|b| *b == Value::Missing || !table.indexes.iter().any(is_unique));
                if blank.is_none() {
                    problems.push(format!(
                        "`{}.{}` is private, but no value can stand in its place in a copy without what is private; make it optional, or give it a default",
                        table.name, column.name
                    ));
                }
            }
            if let Some(column) = table.columns.iter().find(|c| c.seal().is_some()).filter(|_| table.shared) {
                problems.push(format!(
                    "`{}` is shared, but `{}` is sealed, and other devices have other keys; keep what is sealed in a record of its own",
                    table.name, column.name
                ));
            }
            for column in &table.columns {
                if let Kind::Link { table: target } = &column.kind
                    && table.shared
                    && target == ATTACHMENT
                {
                    problems.push(format!(
                        "`{}.{}` is shared and links to attachments, which stay on their device; keep the link in a record that is not shared",
                        table.name, column.name
                    ));
                } else if let Kind::Link { table: target } = &column.kind
                    && table.shared
                    && self.table(target).is_some_and(|t| t.own_key.is_none())
                {
                    problems.push(format!(
                        "`{}.{}` is shared and links to `{target}`, whose records have no own key, by which other \
                         devices could know them; mark a field of that with #[record(own_key)]",
                        table.name, column.name
                    ));
                }
                if let Kind::Link { table: target } = &column.kind
                    && *target == table.name
                    && column.remove_unlinked
                {
                    problems.push(format!(
                        "`{}.{}` links to records of its own type, of which every one would be removed that nothing links to; \
                         remove `remove_unlinked`",
                        table.name, column.name
                    ));
                }
                if let Kind::Link { table: target } = &column.kind
                    && self.table(target).is_none()
                {
                    problems.push(format!(
                        "`{}.{}` links to the table `{target}`, which is not in the schema; add its record with \
                         `.record::<…>()`",
                        table.name, column.name
                    ));
                }
            }
        }
        problems
    }

    /// How `found` differs from this structure, each as a sentence. Empty when they are the same.
    pub fn differences(&self, found: &Structure) -> Vec<String> {
        let mut out = Vec::new();
        for table in &self.tables {
            match found.table(&table.name) {
                None => out.push(format!("the table `{}` is declared but not in the file", table.name)),
                Some(there) => table.push_differences(there, &mut out),
            }
        }
        for table in found.tables.iter().filter(|t| self.table(&t.name).is_none()) {
            out.push(format!("the table `{}` is in the file but not declared", table.name));
        }
        out
    }
}

impl Table {
    /// A table with these columns and indexes. Every link gets an index, unless one begins with it already, because the
    /// engine looks for linking records each time a linked one is removed.
    pub fn new(name: &str, columns: Vec<ColumnDefinition>, own_key: Option<String>, mut indexes: Vec<Index>) -> Table {
        for column in columns.iter().filter(|c| matches!(c.kind, Kind::Link { .. })) {
            if !indexes.iter().any(|i| i.columns.first() == Some(&column.name)) {
                indexes.push(Index { columns: vec![column.name.clone()], unique: false });
            }
        }
        Table { name: name.to_owned(), columns, own_key, indexes, searchable: Vec::new(), shared: false }
    }

    /// What it holds, as its shape says.
    pub fn holds(&self) -> Holds {
        let columns: Vec<&str> = self.columns.iter().map(|column| column.name.as_str()).collect();
        match (self.own_key.as_deref(), &columns[..]) {
            (Some("setting"), ["setting", "value"]) => Holds::Settings,
            (Some("name"), ["name", "value"] | ["value", "name"]) => Holds::NamedValues,
            _ if self.name == ATTACHMENT && columns.contains(&"content") => Holds::Attachments,
            _ => Holds::Records,
        }
    }

    /// The name and the value of a named value that is sealed, which is bound to the name.
    pub fn sealed_by_name(&self) -> Option<(&ColumnDefinition, &ColumnDefinition)> {
        let [first, second] = &self.columns[..] else { return None };
        let (name, value) = if second.seal().is_some() { (first, second) } else { (second, first) };
        (value.seal().is_some() && self.own_key.as_ref() == Some(&name.name)).then_some((name, value))
    }

    /// The table with columns whose words are searched.
    #[must_use]
    pub fn searchable(mut self, columns: impl IntoIterator<Item = String>) -> Table {
        self.searchable = columns.into_iter().collect();
        self.searchable.sort();
        self
    }

    /// The table whose changes are kept.
    #[must_use]
    pub fn shared(mut self) -> Table {
        self.shared = true;
        self
    }

    /// The column with this name.
    pub fn column(&self, name: &str) -> Option<&ColumnDefinition> {
        self.columns.iter().find(|c| c.name == name)
    }

    /// The names of all columns, that of row numbers first.
    pub fn column_names(&self) -> impl Iterator<Item = &str> {
        std::iter::once(KEY_COLUMN).chain(self.columns.iter().map(|c| c.name.as_str()))
    }

    fn push_differences(&self, found: &Table, out: &mut Vec<String>) {
        let name = &self.name;
        for column in &self.columns {
            match found.column(&column.name) {
                None => out.push(format!("`{name}.{}` is declared but not in the file", column.name)),
                Some(there) if there != column => out.push(format!(
                    "`{name}.{}` is declared as {} but is {} in the file",
                    column.name,
                    column.in_words(),
                    there.in_words()
                )),
                Some(_) => {}
            }
        }
        for column in found.columns.iter().filter(|c| self.column(&c.name).is_none()) {
            out.push(format!("`{name}.{}` is in the file but not declared", column.name));
        }
        for index in self.indexes.iter().filter(|i| !found.indexes.contains(i)) {
            out.push(format!("{} is declared but not in the file", index.in_words(name)));
        }
        for index in found.indexes.iter().filter(|i| !self.indexes.contains(i)) {
            out.push(format!("{} is in the file but not declared", index.in_words(name)));
        }
        if self.searchable != found.searchable {
            let in_words = |columns: &[String]| match columns {
                [] => "nothing".into(),
                columns => format!("`{}`", columns.join("`, `")),
            };
            out.push(format!(
                "in `{name}` {} is declared as searchable but {} is in the file",
                in_words(&self.searchable),
                in_words(&found.searchable)
            ));
        }
        if self.shared != found.shared {
            let in_words = |shared: bool| if shared { "shared" } else { "not shared" };
            out.push(format!(
                "the table `{name}` is declared as {} but is {} in the file",
                in_words(self.shared),
                in_words(found.shared)
            ));
        }
        if self.own_key != found.own_key {
            let in_words = |key: &Option<String>| key.as_ref().map_or("none".into(), |k| format!("`{k}`"));
            out.push(format!(
                "the own key of `{name}` is declared as {} but is {} in the file",
                in_words(&self.own_key),
                in_words(&found.own_key)
            ));
        }
    }
}

impl ColumnDefinition {
    /// A column of this kind, with the literal of its default where one is declared.
    pub fn new(
        name: &str,
        (kind, optional): (Kind, bool),
        default: Option<Value>,
        on_delete: Option<OnDelete>,
    ) -> ColumnDefinition {
        let on_delete = match &kind {
            Kind::Link { .. } => Some(on_delete.unwrap_or(OnDelete::Refuse)),
            _ => None,
        };
        let default = default.map(|v| v.literal());
        ColumnDefinition {
            name: name.to_owned(),
            kind,
            optional,
            default,
            on_delete,
            private: false,
            remove_unlinked: false,
            ignore_case: false,
        }
    }

    /// The column, with values that stay out of trails, and of copies that are made without what is private.
    #[must_use]
    pub fn private(mut self) -> ColumnDefinition {
        self.private = true;
        self
    }

    /// The column, a link, with what it linked to removed once nothing links to that any more.
    #[must_use]
    pub fn remove_unlinked(mut self) -> ColumnDefinition {
        self.remove_unlinked = true;
        self
    }

    /// The column, with texts that are the same where only large and small letters A to Z differ.
    #[must_use]
    pub fn ignore_case(mut self) -> ColumnDefinition {
        self.ignore_case = true;
        self
    }

    /// The column, with values that are sealed under this label.
    #[must_use]
    pub fn sealed_as(mut self, as_label: &str) -> ColumnDefinition {
        if let Kind::Sealed { label, .. } = &mut self.kind {
            as_label.clone_into(label);
        }
        self
    }

    /// The label under which its values are sealed, where they are.
    pub fn seal(&self) -> Option<&str> {
        if let Kind::Sealed { label, .. } = &self.kind { Some(label) } else { None }
    }

    /// What stands in place of its values where those are private; nothing where no value would do.
    pub fn blank(&self) -> Option<Value> {
        match &self.kind {
            _ if self.optional => Some(Value::Missing),
            Kind::Text => Some(Value::Text(String::new())),
            Kind::Bytes => Some(Value::Bytes(Vec::new())),
            Kind::F32 | Kind::F64 => Some(Value::Real(0.0)),
            Kind::Link { .. } => None,
            kind if kind.storage() == "INTEGER" => Some(Value::Integer(0)),
            _ => self.default.as_deref().map(Value::of_literal),
        }
    }

    /// What it holds, in words.
    pub fn in_words(&self) -> String {
        self.rules().into_iter().fold(self.kind_in_words(), |words, rule| words + ", " + &rule)
    }

    /// What it holds after a change, in words, with the rules of `before` that hold no longer.
    pub fn in_words_after(&self, before: &ColumnDefinition) -> String {
        let (rules, keeps_a_default) = (self.rules(), self.default.is_some());
        let ended = before.rules().into_iter().filter(|rule| !rules.contains(rule));
        let ended = ended.filter(|rule| !(keeps_a_default && rule.starts_with("by default ")));
        ended.fold(self.in_words(), |words, rule| words + ", no longer " + &rule)
    }

    fn kind_in_words(&self) -> String {
        match &self.kind {
            Kind::Choice { values, .. } => format!("a choice of {}", values.join(", ")),
            Kind::Link { table } => format!("a link to {table}"),
            Kind::DateTime => "date-time".into(),
            Kind::Sealed { holds, label } => {
                let holds = ColumnDefinition::new("", ((**holds).clone(), false), None, None);
                format!("{}, sealed as `{label}`", holds.in_words())
            }
            other => format!("{other:?}").to_lowercase(),
        }
    }

    /// What holds of its values besides their kind, each in words.
    fn rules(&self) -> Vec<String> {
        let default = self.default.as_ref().map(|default| format!("by default {default}"));
        let on_delete = match self.on_delete {
            Some(OnDelete::Clear) => Some("cleared when that is removed"),
            Some(OnDelete::Remove) => Some("removed with it"),
            Some(OnDelete::Refuse) | None => None,
        };
        let words = [
            self.remove_unlinked.then_some("which goes with the last link to it"),
            self.ignore_case.then_some("ignoring case"),
            self.private.then_some("private"),
        ];
        let first = self.optional.then(|| "optional".to_owned()).into_iter().chain(default);
        first.chain([on_delete].into_iter().chain(words).flatten().map(str::to_owned)).collect()
    }
}

impl Index {
    /// Its name in the file.
    pub fn name(&self, table: &str) -> String {
        format!("{table}.{}", self.columns.join("+"))
    }

    fn in_words(&self, table: &str) -> String {
        let kind = if self.unique { "the rule that no two records share" } else { "the index on" };
        format!("{kind} `{table}`({})", self.columns.join(", "))
    }
}
