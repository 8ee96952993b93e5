//! Applying changes that come from another device.

use super::line::{Line, is_same_text, linked_key};
use super::since::{Position, refuse_if_none_is_shared};
use crate::drawer::{Drawer, Scope, UNTOUCHED, Writes};
use crate::engine::{Fault, FaultKind};
use crate::error::{Cause, Error};
use crate::work::progress;
use std::collections::HashMap;
use std::io::BufRead;
use velvet_core::Value;
use velvet_core::exchange::show;
use velvet_core::schema::structure::{ColumnDefinition, Table};
use velvet_core::statement::{CHANGES, moment_upon};
use velvet_core::value::name::{KEY_COLUMN, quoted};

/// What applying changes came to.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Applied {
    /// How many records were inserted or changed.
    pub written: u64,
    /// How many records were removed.
    pub removed: u64,
    /// How many were as they came already.
    pub unchanged: u64,
    /// How many were left as they are stored here, because that is newer, or wins.
    pub kept: u64,
    /// The records that were changed here too, and not sent yet: the table, the own key as text, and whether this device's version
    /// was kept. Also those that could not be removed, or written, because of what links to them or they to; the other
    /// device hears of it.
    pub conflicts: Vec<(String, String, bool)>,
}

/// Changes that are still to be applied.
#[must_use = "changes are applied when this is run"]
pub struct Apply<'a, R> {
    drawer: &'a Drawer,
    lines: R,
    from: Option<String>,
    rule: Rule,
}

#[derive(Clone, Copy)]
enum Rule {
    NewestWins,
    OursWin,
    TheirsWin,
}

impl Drawer {
    /// Applies changes that another device wrote as JSON Lines: in one transaction, all or none. Applying the same changes again
    /// does nothing. Of a record that was changed on both, the newest version wins, unless another rule is chosen; every device that
    /// applies the same changes comes to the same end.
    ///
    /// See [`Drawer::changes_since`].
    pub fn apply_changes<R: BufRead>(&self, lines: R) -> Apply<'_, R> {
        Apply { drawer: self, lines, from: None, rule: Rule::NewestWins }
    }
}

impl<R: BufRead> Apply<'_, R> {
    /// Who the changes come from. What was marked as sent to them ([`Drawer::mark_sent`]) is no conflict.
    pub fn from(mut self, who: impl Into<String>) -> Self {
        self.from = Some(who.into());
        self
    }

    /// In a conflict, keeps what this device has. The other one must let this one's win, or the two come to different ends.
    pub fn ours_win(mut self) -> Self {
        self.rule = Rule::OursWin;
        self
    }

    /// In a conflict, takes what comes. The other one must keep its own, or the two come to different ends.
    pub fn theirs_win(mut self) -> Self {
        self.rule = Rule::TheirsWin;
        self
    }

    /// Applies them.
    ///
    /// # Errors
    /// When a line is not a change of this schema, clashes with another record or links to one that is neither here nor comes, each with
    /// its number; and when the file cannot be written. Nothing is written then.
    pub fn run(self) -> Result<Applied, Error> {
        let Apply { drawer, lines, from, rule } = self;
        let sent = from.map_or(Ok(Position::START), |from| drawer.sent(&from))?;
        let declared = &drawer.inner.declared;
        let mut incoming = Vec::new();
        for (at, text) in lines.lines().enumerate() {
            let text = text.map_err(|error| Error::device("cannot read the changes", &error));
            let text = text.map_err(|error| drawer.inner.place.name(error))?;
            if text.trim().is_empty() {
                continue;
            }
            let line = Line::parse(declared, &text).map_err(|why| refused(at + 1, &why));
            let line = line.map_err(|error| drawer.inner.place.name(error.doing(DOING).untouched(UNTOUCHED)))?;
            incoming.push((at + 1, line));
        }
        drawer.inner.transaction(|scope| {
            let shared: Vec<&Table> = declared.structure.tables.iter().filter(|t| t.shared).collect();
            scope.doing(
                || DOING,
                || {
                    refuse_if_none_is_shared(&shared)?;
                    let mut applying = Applying { scope, sent, rule, report: Applied::default() };
                    applying.all(incoming)?;
                    Ok(applying.report)
                },
            )
        })
    }
}

const DOING: &str = "cannot apply changes";

fn refused(line: usize, why: &str) -> Error {
    Error::bare(Cause::BadQuery, format!("line {line} {why}"))
}

struct Applying<'a> {
    scope: Scope<'a, Writes>,
    sent: Position,
    rule: Rule,
    report: Applied,
}

/// Why a change could not be applied yet: others may make it possible.
enum Later {
    /// The column links to a record with this own key, which is not here.
    Unlinked(String, Value),
    /// The engine refuses it, because of a clash or a link.
    Refused(Fault),
    /// It cannot be applied at all.
    Never(Error),
}

/// What the file remembers of the last change of a record.
struct LastChange {
    at: String,
    is_ours: bool,
}

impl Applying<'_> {
    fn all(&mut self, incoming: Vec<(usize, Line)>) -> Result<(), Error> {
        let mut decided = Decided::default();
        let all = Some(incoming.len() as u64);
        for (at, (number, line)) in incoming.into_iter().enumerate() {
            progress::tell(|| "applying changes".to_owned(), at as u64, all);
            self.decide(number, line, &mut decided)?;
        }
        let mut waiting: Vec<(usize, Line)> = decided.lines.into_iter().map(|wins| (wins.number, wins.line)).collect();
        // A record may come before the one that it links to, a value before the record that had it is changed.
        let mut aside = None;
        loop {
            let before = waiting.len();
            let mut still = Vec::new();
            for (number, line) in waiting {
                match self.attempt(&line, &[]) {
                    Ok(()) => {}
                    Err(Later::Never(error)) => return Err(error),
                    Err(why) => still.push((number, line, why)),
                }
            }
            if still.is_empty() {
                return Ok(());
            }
            if still.len() == before && self.tie(&mut still)? {
                waiting = still.into_iter().map(|(number, line, _)| (number, line)).collect();
                continue;
            }
            if aside.is_none() && still.len() == before {
                aside = Some(self.let_stand_aside(&still)?);
            } else if still.len() == before {
                let (number, line, why) = still.remove(self.not_waiting(&still)?);
                let stands_aside = aside.iter().flatten().any(|a| *a == number);
                self.give_in(number, line, why, stands_aside)?;
            }
            waiting = still.into_iter().map(|(number, line, _)| (number, line)).collect();
        }
    }

    /// Lets records that want each other's unique values stand aside until they are written, and says which lines are about them.
    fn let_stand_aside(&self, still: &[(usize, Line, Later)]) -> Result<Vec<usize>, Error> {
        let wants_a_value =
            |why: &Later| matches!(why, Later::Refused(fault) if matches!(fault.kind, FaultKind::Clash(_)));
        let mut aside = Vec::new();
        for (number, line, _) in still.iter().filter(|(.., why)| wants_a_value(why)) {
            let table = self.table(line)?;
            let own_key = table.own_key.as_deref().unwrap_or_default();
            let columns: Vec<&str> = line.columns.iter().flatten().map(|(name, _)| name.as_str()).collect();
            let stands = self.scope.stand_aside(table, own_key, &line.own_key, &columns);
            stands?;
            aside.push(*number);
        }
        Ok(aside)
    }

    /// Which of the lines that cannot be applied does not wait for another of them: what is wrong is wrong with that one.
    fn not_waiting(&self, still: &[(usize, Line, Later)]) -> Result<usize, Error> {
        for (at, (_, line, why)) in still.iter().enumerate() {
            let waits = match why {
                Later::Unlinked(column, told) => {
                    self.target(line, column)?.is_some_and(|target| comes(still, &target.name, told))
                }
                Later::Refused(_) | Later::Never(_) => false,
            };
            if !waits {
                return Ok(at);
            }
        }
        Ok(0)
    }

    /// Applies changes of records that link to each other, or to themselves: none of them can come first, so each comes without those
    /// links at first. Takes those that are applied out of `still`, and says whether there were any.
    fn tie(&mut self, still: &mut Vec<(usize, Line, Later)>) -> Result<bool, Error> {
        let (mut knot, mut rest): (Vec<_>, Vec<_>) =
            still.drain(..).partition(|(.., why)| matches!(why, Later::Unlinked(..)));
        while !knot.is_empty() {
            let report = self.report.clone();
            let scope = self.scope;
            scope.connection.defer_foreign_keys(true)?;
            let mut loose = None;
            let tied = scope.part(|| {
                loose = self.tie_all(&knot)?;
                if loose.is_none() { Ok(()) } else { Err(Error::own("not tied")) }
            });
            scope.connection.defer_foreign_keys(false)?;
            match (tied, loose) {
                (Ok(()), _) => {
                    *still = rest;
                    return Ok(true);
                }
                // One that needs something else comes later, or not at all; the others may do without it.
                (Err(error), Some(loose)) if error.is_own() => {
                    self.report = report;
                    rest.push(knot.remove(loose));
                }
                (Err(error), _) => return Err(error),
            }
        }
        rest.sort_by_key(|(number, ..)| *number);
        *still = rest;
        Ok(false)
    }

    /// Which of the knot cannot be applied with the others; `None` if all are.
    fn tie_all(&mut self, knot: &[(usize, Line, Later)]) -> Result<Option<usize>, Error> {
        let mut open_ends = Vec::new();
        for (at, (_, line, _)) in knot.iter().enumerate() {
            match self.without_links_to(line, knot)? {
                Some(without) if without.is_empty() => {}
                Some(_) => open_ends.push(at),
                None => return Ok(Some(at)),
            }
        }
        for at in open_ends {
            match self.attempt(&knot[at].1, &[]) {
                Ok(()) => {}
                Err(Later::Never(error)) => return Err(error),
                Err(_) => return Ok(Some(at)),
            }
        }
        Ok(None)
    }

    /// The table that a column of a line's links to.
    fn target(&self, line: &Line, column: &str) -> Result<Option<&Table>, Error> {
        let column = self.table(line)?.column(column);
        Ok(column.and_then(|column| linked_key(&self.scope.inner.declared.structure, column)).map(|(target, _)| target))
    }

    /// Writes a record without its links to others of the knot that are not there yet, and says which those are; nothing when another
    /// link leads nowhere.
    fn without_links_to(&mut self, line: &Line, knot: &[(usize, Line, Later)]) -> Result<Option<Vec<String>>, Error> {
        let mut without = Vec::new();
        loop {
            match self.attempt(line, &without) {
                Ok(()) => return Ok(Some(without)),
                Err(Later::Unlinked(column, told)) if !without.contains(&column) => {
                    if !self.target(line, &column)?.is_some_and(|target| comes(knot, &target.name, &told)) {
                        return Ok(None);
                    }
                    without.push(column);
                }
                Err(Later::Never(error)) => return Err(error),
                Err(_) => return Ok(None),
            }
        }
    }

    fn table(&self, line: &Line) -> Result<&Table, Error> {
        let table = self.scope.inner.declared.structure.table(&line.table);
        table.ok_or_else(|| Error::new(Cause::Schema, format!("there is no table `{}`", line.table)))
    }

    /// Decides whether a change is to be applied, as against what is stored, or what an earlier line brings: all lines come to what each of them alone, one after
    /// the other, would come to.
    fn decide(&mut self, number: usize, line: Line, decided: &mut Decided) -> Result<(), Error> {
        let table = self.table(&line)?;
        let ignores_case = table.own_key.as_ref().and_then(|key| table.column(key)).is_some_and(|key| key.ignore_case);
        let own_key = line.own_key.literal();
        let record = (line.table.clone(), if ignores_case { own_key.to_ascii_lowercase() } else { own_key });
        if let Some(at) = decided.by_record.get(&record).copied() {
            let earlier = &mut decided.lines[at];
            if self.same(&earlier.becomes, &line)? {
                self.report.unchanged += 1;
                let later = std::cmp::max(&earlier.line.at, &line.at).clone();
                earlier.line.at = later;
            } else if (line.at.as_str(), line.content()) > (earlier.line.at.as_str(), earlier.becomes.content()) {
                earlier.is_followed_by(number, line);
            } else {
                self.report.kept += 1;
            }
            return Ok(());
        }
        let here = Line::read(self.scope, self.table(&line)?, line.own_key.clone(), String::new())?;
        if self.wins(&line, &here)? {
            decided.by_record.insert(record, decided.lines.len());
            let mut wins = Wins { number, line: here.clone(), becomes: here };
            wins.line.columns = wins.line.columns.take().map(|_| Vec::new());
            wins.is_followed_by(number, line);
            decided.lines.push(wins);
        }
        Ok(())
    }

    /// Whether a change takes the place of what is stored.
    fn wins(&mut self, line: &Line, here: &Line) -> Result<bool, Error> {
        let Some(entry) = self.entry(line)? else {
            if line.columns.is_none() && here.columns.is_none() {
                // Neither ever had it, or it is long gone. What is made again under this key must be later than that, whatever the clock says.
                self.settle(line)?;
                self.report.unchanged += 1;
                return Ok(false);
            }
            return Ok(true);
        };
        if self.same(here, line)? {
            self.report.unchanged += 1;
            if line.at > entry.at {
                self.settle(line)?;
            }
            return Ok(false);
        }
        let is_newer = (line.at.as_str(), line.content()) > (entry.at.as_str(), here.content());
        let wins = match self.rule {
            Rule::OursWin if entry.is_ours => false,
            Rule::TheirsWin if entry.is_ours => true,
            _ => is_newer,
        };
        if entry.is_ours {
            self.report.conflicts.push((line.table.clone(), show::plain(line.own_key.as_ref()), !wins));
        }
        if !wins {
            self.report.kept += 1;
        }
        Ok(wins)
    }

    fn entry(&self, line: &Line) -> Result<Option<LastChange>, Error> {
        let text = format!("SELECT at, from_elsewhere, position FROM {CHANGES} WHERE table_name = ?1 AND own_key = ?2");
        let entry =
            self.scope.connection.one(&text, [(&line.table).into(), (&line.own_key).into()], |row| LastChange {
                at: row.text(0).to_owned(),
                is_ours: row.integer(1) == 0 && row.integer(2) > self.sent.number(),
            });
        Ok(entry?)
    }

    /// Applies a change in a part of the transaction. The columns in `without` become nothing; then it is not counted.
    fn attempt(&mut self, line: &Line, without: &[String]) -> Result<(), Later> {
        let (mut why, mut changed) = (None, 0);
        let scope = self.scope;
        let applied = scope.part(|| match self.apply(line, without) {
            Ok(rows) => {
                changed = rows;
                Ok(())
            }
            Err(later) => {
                why = Some(later);
                Err(Error::new(Cause::Engine, "given up"))
            }
        });
        match (applied, why) {
            (Ok(()), _) if !without.is_empty() => Ok(()),
            (Ok(()), _) => {
                match (&line.columns, changed) {
                    (Some(_), _) => self.report.written += 1,
                    (None, 0) => self.report.unchanged += 1,
                    (None, _) => self.report.removed += 1,
                }
                Ok(())
            }
            (Err(_), Some(later)) => Err(later),
            (Err(error), None) => Err(Later::Never(error)),
        }
    }

    fn apply(&self, line: &Line, without: &[String]) -> Result<u64, Later> {
        let refused = |fault: Fault| match fault.kind {
            FaultKind::Link | FaultKind::Clash(_) => Later::Refused(fault),
            _ => Later::Never(fault.into()),
        };
        let table = self.table(line).map_err(Later::Never)?;
        let own_key = quoted(table.own_key.as_deref().unwrap_or_default());
        let name = quoted(&table.name);
        let mut values = Vec::new();
        let text = match &line.columns {
            None => format!("DELETE FROM {name} WHERE {own_key} = ?1"),
            Some(columns) => {
                let mut names = Vec::new();
                for (column, told) in columns {
                    let Some(column) = table.column(column) else { continue };
                    let is_left_out = without.contains(&column.name);
                    // Only a link that is set right before the commit may lead to a row that there never is.
                    let left_out = if column.optional { Value::Missing } else { Value::Integer(0) };
                    values.push(if is_left_out { left_out } else { self.here(column, told)? });
                    names.push(quoted(&column.name));
                }
                let marks = vec!["?"; names.len()].join(", ");
                let sets: Vec<String> = names.iter().map(|n| format!("{n} = excluded.{n}")).collect();
                let names = names.join(", ");
                let sets = sets.join(", ");
                format!("INSERT INTO {name} ({names}) VALUES ({marks}) ON CONFLICT ({own_key}) DO UPDATE SET {sets}")
            }
        };
        if line.columns.is_none() {
            values.push(line.own_key.clone());
        }
        let changed = self.scope.connection.execute(&text, values.iter().map(Value::as_ref)).map_err(refused)?;
        if without.is_empty() {
            self.settle(line).map_err(Later::Never)?;
        }
        Ok(changed)
    }

    /// A told value as it is stored here: a link as the row number of the record with that own key.
    fn here(&self, column: &ColumnDefinition, told: &Value) -> Result<Value, Later> {
        let linked = linked_key(&self.scope.inner.declared.structure, column);
        let (Some((target, own_key)), false) = (linked, *told == Value::Missing) else { return Ok(told.clone()) };
        let (key, name) = (quoted(KEY_COLUMN), quoted(&target.name));
        let text = format!("SELECT {key} FROM {name} WHERE {} = ?1", quoted(&own_key.name));
        let here = self.scope.connection.one(&text, [told.into()], |row| row.value(0).to_value());
        let here = here.map_err(|fault| Later::Never(fault.into()))?;
        here.ok_or_else(|| Later::Unlinked(column.name.clone(), told.clone()))
    }

    /// Notes that a record is as it came: since when, and that it is nothing that this device has to tell.
    fn settle(&self, line: &Line) -> Result<(), Error> {
        self.note(line, &line.at, 1)
    }

    fn note(&self, line: &Line, at: &str, from_elsewhere: i64) -> Result<(), Error> {
        let removed = i64::from(line.columns.is_none());
        let run = |text: &str| {
            let told = [removed.into(), at.into(), from_elsewhere.into()];
            self.scope.connection.execute(text, [(&line.table).into(), (&line.own_key).into()].into_iter().chain(told))
        };
        let there = format!(
            "UPDATE {CHANGES} SET removed = ?3, at = ?4, from_elsewhere = ?5 WHERE table_name = ?1 AND own_key = ?2"
        );
        let new = format!(
            "INSERT INTO {CHANGES} (table_name, own_key, removed, at, from_elsewhere) VALUES (?1, ?2, ?3, ?4, ?5)"
        );
        if run(&there)? == 0 {
            run(&new)?;
        }
        Ok(())
    }

    /// Nothing that comes makes this change possible: so the device keeps what it can, and tells the other. A record that stands aside must
    /// be written.
    fn give_in(&mut self, number: usize, line: Line, why: Later, stands_aside: bool) -> Result<(), Error> {
        let own_key = show::plain(line.own_key.as_ref());
        match why {
            Later::Unlinked(column, told) => {
                let table = self.table(&line)?.clone();
                let Some(declared) = table.column(&column) else { return Ok(()) };
                if stands_aside || !self.was_removed_here(declared, &told)? {
                    return Err(links_nowhere(number, &table, &column, &told));
                }
                self.without_broken_links(number, &line)?;
            }
            Later::Refused(fault) if line.columns.is_none() && fault.kind == FaultKind::Link => {
                self.tell_again_that_it_is_here(&line)?;
            }
            Later::Refused(fault) => return Err(self.clash(number, &line, fault)),
            Later::Never(error) => return Err(error),
        }
        self.report.conflicts.push((line.table, own_key, true));
        self.report.kept += 1;
        Ok(())
    }

    /// Says which value another record has already.
    #[cold]
    fn clash(&self, number: usize, line: &Line, fault: Fault) -> Error {
        let FaultKind::Clash(columns) = &fault.kind else { return fault.into() };
        let value = |column: &String| {
            let name = column.rsplit_once('.').map_or(column.as_str(), |(_, name)| name);
            let told = line.columns.iter().flatten().find(|(n, _)| n == name);
            told.map_or_else(|| name.to_owned(), |(_, value)| format!("{name} {}", show::plain(value.as_ref())))
        };
        let said: Vec<String> = columns.iter().map(value).collect();
        let (table, own_key) = (&line.table, show::plain(line.own_key.as_ref()));
        let problem = format!(
            "line {number} brings {table} {own_key}, but its {} is already that of another record here",
            said.join(" with ")
        );
        let advice = "Change that value on one of the devices, and exchange changes again";
        Error::bare(Cause::Clash, problem).advise(advice).in_table(table, None)
    }

    fn was_removed_here(&self, column: &ColumnDefinition, own_key: &Value) -> Result<bool, Error> {
        let Some((target, _)) = linked_key(&self.scope.inner.declared.structure, column) else { return Ok(false) };
        let line = Line { table: target.name.clone(), own_key: own_key.clone(), at: String::new(), columns: None };
        Ok(self.entry(&line)?.is_some())
    }

    /// Writes a record without the links whose records were removed here; one that must have such a link goes the way of the record that it links to, or stays as it was
    /// here.
    fn without_broken_links(&mut self, number: usize, line: &Line) -> Result<(), Error> {
        let table = self.table(line)?.clone();
        let mut without = Vec::new();
        loop {
            match self.attempt(line, &without) {
                Ok(()) => break,
                Err(Later::Unlinked(column, told)) => {
                    let declared = table.column(&column).filter(|_| !without.contains(&column));
                    let Some(declared) = declared else { return Ok(()) };
                    if !self.was_removed_here(declared, &told)? {
                        return Err(links_nowhere(number, &table, &column, &told));
                    }
                    if !declared.optional {
                        let here = Line::read(self.scope, &table, line.own_key.clone(), line.at.clone())?;
                        return self.tell_anew(&here);
                    }
                    without.push(column);
                }
                Err(Later::Refused(fault)) => return Err(self.clash(number, line, fault)),
                Err(Later::Never(error)) => return Err(error),
            }
        }
        self.tell_anew(line)
    }

    fn tell_again_that_it_is_here(&self, line: &Line) -> Result<(), Error> {
        self.tell_anew(&Line { columns: Some(Vec::new()), ..line.clone() })
    }

    /// Makes an entry of this device's own, at a new position, so that the other hears of it.
    fn tell_anew(&self, line: &Line) -> Result<(), Error> {
        let connection = self.scope.connection;
        let forget = format!("DELETE FROM {CHANGES} WHERE table_name = ?1 AND own_key = ?2");
        connection.execute(&forget, [(&line.table).into(), (&line.own_key).into()])?;
        // Later than what came, also where the other device's clock is ahead.
        let at = connection.one(&moment_upon(), [(&line.at).into()], |row| row.text(0).to_owned())?;
        self.note(line, &at.unwrap_or_default(), 0)
    }
}

fn links_nowhere(number: usize, table: &Table, column: &str, told: &Value) -> Error {
    let told = show::plain(told.as_ref());
    refused(number, &format!("links `{}.{column}` to {told}, which is neither here nor comes", table.name))
}

/// Whether a record comes with one of these lines.
fn comes(lines: &[(usize, Line, Later)], table: &str, own_key: &Value) -> bool {
    lines.iter().any(|(_, other, _)| other.columns.is_some() && other.table == table && other.own_key == *own_key)
}

/// The changes that are to be applied: one of each record.
#[derive(Default)]
struct Decided {
    lines: Vec<Wins>,
    /// Where each record is among them, by its table and own key.
    by_record: HashMap<(String, String), usize>,
}

/// A change that is to be applied: that of the newest line about its record, and whatever older ones say of other columns.
struct Wins {
    /// The number of the newest line.
    number: usize,
    line: Line,
    /// The whole record, once it is applied.
    becomes: Line,
}

impl Wins {
    /// A newer line about the same record.
    fn is_followed_by(&mut self, number: usize, newer: Line) {
        self.number = number;
        let Some(columns) = newer.columns else {
            self.becomes.columns = None;
            self.line = newer;
            return;
        };
        for all in [&mut self.line.columns, &mut self.becomes.columns] {
            let all = all.get_or_insert_with(Vec::new);
            for (name, value) in &columns {
                match all.iter_mut().find(|(n, _)| n == name) {
                    Some((_, there)) => there.clone_from(value),
                    None => all.push((name.clone(), value.clone())),
                }
            }
        }
        self.line.at = newer.at;
    }
}

impl Applying<'_> {
    /// Whether what is stored is what comes, in the columns that come.
    fn same(&self, here: &Line, line: &Line) -> Result<bool, Error> {
        let (here, coming) = match (&here.columns, &line.columns) {
            (None, None) => return Ok(true),
            (Some(here), Some(coming)) => (here, coming),
            _ => return Ok(false),
        };
        let table = self.table(line)?;
        // A link is told by an own key, which may ignore case.
        let ignores_case = |name: &str| {
            let link = table.column(name).and_then(|column| linked_key(&self.scope.inner.declared.structure, column));
            link.is_some_and(|(_, own_key)| own_key.ignore_case)
        };
        Ok(coming.iter().all(|(name, value)| {
            here.iter()
                .any(|(n, stored)| n == name && (stored == value || ignores_case(name) && is_same_text(stored, value)))
        }))
    }
}
