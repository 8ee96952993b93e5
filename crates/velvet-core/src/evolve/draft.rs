//! The changes from one structure to another, drafted: what follows by itself, and what must be asked.

use super::Step;
use super::used::Used;
use crate::schema::hints::{Hints, Origin};
use crate::schema::structure::{ColumnDefinition, Holds, Kind, Structure, Table};

/// Drafted changes.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Draft {
    /// The changes, in the order in which they must be made.
    pub changes: Vec<Step>,
    /// What cannot be known, each as a question that names the attribute to write.
    pub questions: Vec<String>,
    /// What may go wrong on a phone, or works otherwise from now on, though nothing has to be said.
    pub warnings: Vec<String>,
}

/// Drafts the changes that make `to` of `from`. `hints` are those of each table of `to`, by name; `before` are the changes
/// that were drafted the last time, whose answers and fill expressions hold where a field or struct gives none. `earlier` are those of all versions up to `from`, in
/// order: what was answered there has been done, and is not an answer to another change.
pub fn draft(from: &Structure, to: &Structure, hints: &[(&str, Hints)], before: &[Step], earlier: &[Step]) -> Draft {
    let used = Used::of(earlier);
    let mut drafting = Drafting { from, now: from.clone(), parts: StepsByKind::default(), hints, before, used };
    drafting.tables(to);
    for table in &to.tables {
        if let Some(before) = drafting.now.table(&table.name).cloned() {
            drafting.columns(before, table);
        } else {
            drafting.parts.added.push(Step::AddTable { table: table.clone() });
        }
    }
    drafting.parts.into_draft()
}

struct Drafting<'h> {
    /// The old structure.
    from: &'h Structure,
    /// The old structure, with what was renamed under its new names.
    now: Structure,
    parts: StepsByKind,
    hints: &'h [(&'h str, Hints)],
    before: &'h [Step],
    used: Used,
}

/// Changes by when they must be made.
#[derive(Default)]
struct StepsByKind {
    renamed: Vec<Step>,
    added: Vec<Step>,
    unindexed: Vec<Step>,
    changed: Vec<Step>,
    dropped: Vec<Step>,
    indexed: Vec<Step>,
    questions: Vec<String>,
    warnings: Vec<String>,
}

/// Where a table or column comes from, by its hint or by what was recorded the last time.
enum ComesFrom {
    Was(String),
    New,
}

impl StepsByKind {
    fn into_draft(mut self) -> Draft {
        self.added.sort_by_key(|step| !matches!(step, Step::AddTable { .. }));
        let (filled, added) = Step::apart(std::mem::take(&mut self.added));
        self.added = added;
        let parts = [self.renamed, self.added, filled, self.unindexed, self.changed, self.dropped, self.indexed];
        Draft { changes: parts.into_iter().flatten().collect(), questions: self.questions, warnings: self.warnings }
    }
}

impl Drafting<'_> {
    fn hints_of(&self, table: &str) -> Hints {
        self.hints.iter().find(|(name, _)| *name == table).map(|(_, hints)| *hints).unwrap_or_default()
    }

    /// The fill expression that was recorded for a column, unless it follows from the default that the column had then.
    fn fill_before(&self, table: &str, column: &str) -> Option<String> {
        self.before.iter().find_map(|change| match change {
            Step::AddColumn { table: t, column: c, fill } | Step::ChangeColumn { table: t, column: c, fill }
                if t == table && c.name == column =>
            {
                fill.clone().filter(|fill| Some(fill) != default_where_missing(c).as_ref())
            }
            _ => None,
        })
    }

    /// Where a new table comes from.
    fn source_of_table(&self, table: &str) -> Option<ComesFrom> {
        match self.hints_of(table).table {
            Some(Origin::Was(was)) => Some(ComesFrom::Was(was.to_owned())),
            Some(Origin::New) => Some(ComesFrom::New),
            None => self.before.iter().find_map(|change| match change {
                Step::RenameTable { table: was, to } if to == table => Some(ComesFrom::Was(was.clone())),
                Step::AddTable { table: added } if added.name == table => Some(ComesFrom::New),
                _ => None,
            }),
        }
    }

    /// Where a new column comes from.
    fn source_of_column(&self, table: &str, column: &str) -> Option<ComesFrom> {
        let hints = self.hints_of(table).columns;
        match hints.iter().find(|h| h.column == column).and_then(|h| h.origin) {
            Some(Origin::Was(was)) => Some(ComesFrom::Was(was.to_owned())),
            Some(Origin::New) => Some(ComesFrom::New),
            None => self.before.iter().find_map(|change| match change {
                Step::RenameColumn { table: t, column: was, to } if t == table && to == column => {
                    Some(ComesFrom::Was(was.clone()))
                }
                Step::AddColumn { table: t, column: added, .. } if t == table && added.name == column => {
                    Some(ComesFrom::New)
                }
                _ => None,
            }),
        }
    }

    /// Whether it was recorded the last time that this goes away.
    fn was_dropped(&self, dropped: &Step) -> bool {
        self.before.contains(dropped)
    }

    /// Whether an earlier version filled a column so, under the names that it had before this version.
    fn has_run(&self, table: &str, column: &str, fill: &str) -> bool {
        let (mut was_table, mut was_column) = (table, column);
        for step in self.parts.renamed.iter().rev() {
            match step {
                Step::RenameColumn { table: of, column, to } if of == table && to == was_column => was_column = column,
                Step::RenameTable { table, to } if to == was_table => was_table = table,
                _ => {}
            }
        }
        self.used.is_filled(was_table, was_column, fill)
    }

    fn rename(&mut self, change: Step) {
        match change.apply(&mut self.now) {
            Ok(()) => self.parts.renamed.push(change),
            Err(why) => self.parts.questions.push(format!("{change}: {why}")),
        }
    }

    fn tables(&mut self, to: &Structure) {
        for table in &to.tables {
            let Some(ComesFrom::Was(was)) = self.source_of_table(&table.name) else { continue };
            let is_hinted = matches!(self.hints_of(&table.name).table, Some(Origin::Was(_)));
            if is_hinted && self.used.is_renamed(None, &table.name, &was) {
                continue;
            }
            let place = format!("the table `{}`", table.name);
            let is_new_now = matches!(self.hints_of(&was).table, Some(Origin::New));
            match (self.now.table(&was).is_some(), self.now.table(&table.name).is_some(), to.table(&was).is_some()) {
                (true, false, still) if !still || is_new_now => {
                    self.rename(Step::RenameTable { table: was, to: table.name.clone() });
                }
                (true, false, _) => self.parts.questions.push(is_still_there(&place, &was, "its struct")),
                (false, ..) if is_hinted => {
                    let there = self.from.tables.iter().map(|t| t.name.as_str());
                    self.parts.questions.push(was_never_there(&place, "table", &was, there, "its struct"));
                }
                (true, true, _) if was != table.name => {
                    self.parts.questions.push(both_are_there(&place, &was, "its struct"));
                }
                _ => {}
            }
        }
        let gone: Vec<Table> = self.now.tables.iter().filter(|t| to.table(&t.name).is_none()).cloned().collect();
        for table in to.tables.iter().filter(|t| self.now.table(&t.name).is_none()) {
            let source = self.source_of_table(&table.name);
            let is_said = |gone: &Table| match source {
                Some(_) if self.hints_of(&table.name).table.is_some() => true,
                Some(_) => self.was_dropped(&Step::DropTable { table: gone.name.clone() }),
                None => false,
            };
            let mut unsaid: Vec<&Table> = gone.iter().filter(|g| !is_said(g)).collect();
            unsaid.sort_by_key(|g| !shares_most_columns(g, table));
            let names: Vec<&str> = unsaid.iter().map(|g| g.name.as_str()).collect();
            let place = format!("table `{}`", table.name);
            self.parts.questions.extend(is_it_one_of_before(&place, &names, "its struct", "rows"));
        }
        let dropped = gone.into_iter().map(|t| Step::DropTable { table: t.name });
        self.parts.dropped.extend(dropped);
    }

    fn columns(&mut self, before: Table, after: &Table) {
        let name = &after.name;
        let hints = self.hints_of(name);
        let hint = |column: &str| hints.columns.iter().find(|h| h.column == column);
        for column in &after.columns {
            let Some(ComesFrom::Was(was)) = self.source_of_column(name, &column.name) else { continue };
            let is_hinted = matches!(hint(&column.name).and_then(|h| h.origin), Some(Origin::Was(_)));
            if is_hinted && self.used.is_renamed(Some(name), &column.name, &was) {
                continue;
            }
            let place = format!("`{name}.{}`", column.name);
            let is_new_now = matches!(hint(&was).and_then(|h| h.origin), Some(Origin::New));
            match (before.column(&was).is_some(), before.column(&column.name).is_some(), after.column(&was).is_some()) {
                (true, false, still) if !still || is_new_now => {
                    self.rename(Step::RenameColumn { table: name.clone(), column: was, to: column.name.clone() });
                }
                (true, false, _) => self.parts.questions.push(is_still_there(&place, &was, "the field")),
                (true, true, _) if was != column.name => {
                    self.parts.questions.push(both_are_there(&place, &was, "the field"));
                }
                (false, ..) if is_hinted => {
                    let there = before.columns.iter().map(|c| c.name.as_str());
                    self.parts.questions.push(was_never_there(&place, "column", &was, there, "the field"));
                }
                _ => {}
            }
        }
        let before = self.now.table(name).cloned().unwrap_or(before);
        let gone: Vec<ColumnDefinition> =
            before.columns.iter().filter(|c| after.column(&c.name).is_none()).cloned().collect();

        for column in &after.columns {
            let hint = hint(&column.name);
            let fill = hint.and_then(|h| h.fill).map(str::to_owned).or_else(|| self.fill_before(name, &column.name));
            let is_changed = before
                .column(&column.name)
                .is_none_or(|old| old.kind != column.kind || old.optional != column.optional);
            let has_run = |fill: &&str| is_changed && self.has_run(name, &column.name, fill);
            let said = hint.and_then(|h| h.fill).filter(has_run);
            if let Some(fill) = said.filter(|_| self.fill_before(name, &column.name).is_none()) {
                self.parts.questions.push(has_run_already(&format!("`{name}.{}`", column.name), fill));
            }
            let is_idle = |fill: &&str| !is_changed && !self.has_run(name, &column.name, fill);
            if let Some(fill) = hint.and_then(|h| h.fill).filter(is_idle) {
                self.parts.questions.push(format!(
                    "`{name}.{}` keeps its type, so #[record(fill = {fill:?})] has nothing to fill: remove it, or add a statement to the version in the history file",
                    column.name
                ));
            }
            match before.column(&column.name) {
                None => self.added(name, column, fill, &gone),
                Some(old) if old != column => self.changed(name, old, column, fill),
                Some(_) => {}
            }
        }
        for column in gone {
            self.parts.changed.push(Step::DropColumn { table: name.clone(), column: column.name });
        }
        for index in before.indexes.iter().filter(|i| !after.indexes.contains(i)) {
            self.parts.unindexed.push(Step::DropIndex { table: name.clone(), index: index.clone() });
        }
        for index in after.indexes.iter().filter(|i| !before.indexes.contains(i)) {
            let is_of_rows_that_exist = index.columns.iter().any(|c| before.column(c).is_some());
            if index.unique && is_of_rows_that_exist {
                self.parts.warnings.push(may_be_the_same(name, &index.columns.join(" and ")));
            }
            self.parts.indexed.push(Step::AddIndex { table: name.clone(), index: index.clone() });
        }
        if before.searchable != after.searchable {
            let kept: Vec<String> =
                before.searchable.iter().filter(|c| after.searchable.contains(c)).cloned().collect();
            let change = |columns: &[String]| Step::Searchable { table: name.clone(), columns: columns.to_vec() };
            // What is dropped, or becomes another kind, is not searched then; what is new is searched once it is there.
            if kept != before.searchable {
                self.parts.unindexed.push(change(&kept));
            }
            if kept != after.searchable {
                self.parts.indexed.push(change(&after.searchable));
            }
        }
        if before.shared != after.shared {
            self.parts.indexed.push(Step::Shared { table: name.clone(), shared: after.shared });
        }
        if before.own_key != after.own_key {
            let own_key = after.own_key.clone();
            self.parts.changed.push(Step::ChangeOwnKey { table: name.clone(), own_key });
        }
    }

    fn added(&mut self, table: &str, column: &ColumnDefinition, fill: Option<String>, gone: &[ColumnDefinition]) {
        let place = format!("`{table}.{}`", column.name);
        let source = self.source_of_column(table, &column.name);
        let hints = self.hints_of(table).columns;
        let is_hinted = hints.iter().any(|h| h.column == column.name && h.origin.is_some());
        let dropped = |gone: &ColumnDefinition| Step::DropColumn { table: table.to_owned(), column: gone.name.clone() };
        let is_said = |gone: &ColumnDefinition| source.is_some() && (is_hinted || self.was_dropped(&dropped(gone)));
        let mut unsaid: Vec<&ColumnDefinition> = gone.iter().filter(|g| !is_said(g)).collect();
        unsaid.sort_by_key(|g| g.kind != column.kind);
        let names: Vec<&str> = unsaid.iter().map(|g| g.name.as_str()).collect();
        self.parts.questions.extend(is_it_one_of_before(&place, &names, "the field", "values"));
        if !column.optional && column.default.is_none() && fill.is_none() {
            self.parts.questions.push(format!(
                "what do rows that exist get in the new {place}? Write #[record(default = …)], or #[record(fill = \"…\")] with \
                 an SQL expression over the row, or make the field an Option"
            ));
        }
        self.parts.added.push(Step::AddColumn { table: table.to_owned(), column: column.clone(), fill });
    }

    fn changed(&mut self, table: &str, old: &ColumnDefinition, new: &ColumnDefinition, fill: Option<String>) {
        let place = format!("`{table}.{}`", new.name);
        if let (Some(old), Some(new)) = (old.seal(), new.seal())
            && old != new
        {
            let at = match self.now.table(table).map(Table::holds) {
                Some(Holds::Settings) => format!("sealed = \"{old}\" where the settings say `sealed`"),
                _ => format!("#[record(sealed = \"{old}\")] on the field"),
            };
            self.parts
                .questions
                .push(format!("what is stored in {place} was sealed as `{old}`, and can be read only so: write {at}"));
        }
        let mut fill = fill.filter(|_| old.kind != new.kind || old.optional != new.optional);
        if fill.is_none() {
            if let Some(why) = why_values_may_not_fit(&old.kind, &new.kind) {
                self.parts.questions.push(format!(
                    "how do the values of {place} become {}? {why}. Write #[record(fill = \"…\")] on the field, with an SQL \
                     expression over the row",
                    new.in_words()
                ));
            }
            if old.optional && !new.optional {
                match default_where_missing(new) {
                    Some(default) => fill = Some(default),
                    None => self.parts.questions.push(format!(
                        "what do rows get whose {place} is missing? Write #[record(default = …)] or #[record(fill = \"…\")], or \
                         keep the field an Option"
                    )),
                }
            }
        }
        if let (Some(was), Some(is)) = (old.on_delete, new.on_delete)
            && was != is
        {
            self.parts.warnings.push(format!(
                "when the record that {place} links to is removed, {}, and no longer {}",
                is.in_words(),
                was.in_words()
            ));
        }
        if new.ignore_case && !old.ignore_case {
            let columns = format!("{}, but for large and small letters", new.name);
            self.parts.warnings.push(may_be_the_same(table, &columns));
        }
        self.parts.changed.push(Step::ChangeColumn { table: table.to_owned(), column: new.clone(), fill });
    }
}

/// The warning that a rule may not hold for rows that exist.
fn may_be_the_same(table: &str, columns: &str) -> String {
    format!(
        "rows of `{table}` that exist may have the same {columns}: on a phone where they do, the upgrade is refused and \
         the file stays at its version. If there can be any, let the upgrade tell them apart or merge them first, by \
         code or by a statement in the history"
    )
}

/// The question whether something new is one of those that go away; nothing where none does.
fn is_it_one_of_before(place: &str, gone: &[&str], at: &str, kept: &str) -> Option<String> {
    let (likely, others) = gone.split_first()?;
    let others: String = others.iter().map(|other| format!(", or the `{other}`")).collect();
    Some(format!(
        "is the new {place} the `{likely}`{others} of before? Then write #[record(was = \"{likely}\")] on {at}, and its {kept} are \
         kept; else write #[record(new)], and those of `{likely}` are dropped"
    ))
}

/// The question about an answer that names nothing.
fn was_never_there<'n>(place: &str, kind: &str, was: &str, there: impl Iterator<Item = &'n str>, at: &str) -> String {
    let there: Vec<String> = there.map(|name| format!("`{name}`")).collect();
    format!(
        "{place} says that it was `{was}`, but there is no {kind} `{was}` before: there are {}. Correct `was` on {at}, or remove it",
        there.join(", ")
    )
}

/// The question about a name that is said to be the former one, and is still in use.
fn is_still_there(place: &str, was: &str, at: &str) -> String {
    format!(
        "{place} says that it was `{was}`, but `{was}` is declared too. If `{was}` is something new now, write #[record(new)] there; else remove \
         `was` from {at}"
    )
}

/// The question about a fill expression of an earlier version.
fn has_run_already(place: &str, fill: &str) -> String {
    format!(
        "{place} still has fill = \"{fill}\", which an earlier version recorded and ran. Remove it from the field, or write the expression that this change \
         needs; if the same one is to run once more, put it in parentheses"
    )
}

/// What is said of a name that was another's, where both are there before and afterwards.
fn both_are_there(place: &str, was: &str, at: &str) -> String {
    format!(
        "{place} says that it was `{was}`, but both were there before. Remove `was` from {at}; or, where one takes the other's name, \
         record it in two versions, by way of a name that is neither's"
    )
}

/// What a column holds in rows where nothing was, when it may not be missing from now on.
fn default_where_missing(column: &ColumnDefinition) -> Option<String> {
    let default = column.default.as_ref().filter(|_| !column.optional)?;
    Some(format!("coalesce({}, {default})", crate::value::name::quoted(&column.name)))
}

/// Why a value of the old kind may not be one of the new kind as it stands; nothing when every one is.
fn why_values_may_not_fit(old: &Kind, new: &Kind) -> Option<String> {
    if let (Some((old_least, old_most)), Some((least, most))) = (range(old), range(new)) {
        return (old_least < least || old_most > most).then(|| format!("Some may lie outside {least} to {most}"));
    }
    if let Kind::Sealed { holds, .. } = old {
        return why_values_may_not_fit(holds, new);
    }
    if let Kind::Sealed { holds, .. } = new {
        return why_values_may_not_fit(old, holds);
    }
    let same_form = || Some("They are stored in another form".to_owned());
    match (old, new) {
        (Kind::Choice { values: old, .. }, Kind::Choice { values: new, fallback }) => {
            let gone: Vec<&str> = old.iter().filter(|v| !new.contains(v)).map(String::as_str).collect();
            (!gone.is_empty() && !fallback)
                .then(|| format!("Some may be {}, which is not declared any more", gone.join(" or ")))
        }
        (Kind::Link { table: old }, Kind::Link { table: new }) => {
            (old != new).then(|| format!("They are keys of {old}"))
        }
        (old, new) if old == new => None,
        (Kind::F32, Kind::F64) | (Kind::Date, Kind::Text) => None,
        (old, Kind::F64) => match range(old) {
            // Decimals hold whole numbers of up to 53 bits without loss.
            Some((least, most)) if least >= -(1 << 53) && most <= 1 << 53 => None,
            _ => same_form(),
        },
        (_, Kind::Text) if old.storage() == "TEXT" => None,
        _ => same_form(),
    }
}

/// The least and largest value of a kind of whole number.
fn range(kind: &Kind) -> Option<(i64, i64)> {
    Some(match kind {
        Kind::I8 => (i8::MIN.into(), i8::MAX.into()),
        Kind::I16 => (i16::MIN.into(), i16::MAX.into()),
        Kind::I32 => (i32::MIN.into(), i32::MAX.into()),
        Kind::I64 => (i64::MIN, i64::MAX),
        Kind::U8 => (0, u8::MAX.into()),
        Kind::U16 => (0, u16::MAX.into()),
        Kind::U32 => (0, u32::MAX.into()),
        Kind::U64 => (0, i64::MAX),
        _ => return None,
    })
}

fn shares_most_columns(a: &Table, b: &Table) -> bool {
    let shared = a.columns.iter().filter(|c| b.column(&c.name).is_some()).count();
    shared * 2 > a.columns.len().max(b.columns.len())
}
