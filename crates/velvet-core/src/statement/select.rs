//! The statement of a selection.

use crate::exchange::sql_text::has_word;
use crate::query::assignment::New;
use crate::query::collation::Collation;
use crate::query::condition::Condition;
use crate::query::fragment::{Fragment, joined};
use crate::query::order::OrderBy;
use crate::query::pick::Picked;
use crate::query::sort_key::SortKeys;
use crate::records::record::Record;
use crate::statement::search_index;
use crate::value::Value;
use crate::value::name::{KEY_COLUMN, push_quoted, quoted};

/// What an order and a range take, so that the text of most statements is allocated once.
const SPARE: usize = 128;

/// How many rows behind a range are held, so that rows of it may go without reading it anew.
pub const SPARE_ROWS: u64 = 16;

/// The statements with which a selection is followed. A row has its number, its columns, and its value of each order.
pub struct Followed {
    /// Reads all of the selection, in order; where `some` is there and a range, from its beginning to a few rows behind the range.
    pub all: Fragment,
    /// Reads those of certain rows that are in the selection. It is there where whether a row is selected, and its place, are seen from the row alone.
    pub some: Option<SomeRows>,
    /// How the rows compare.
    pub keys: SortKeys,
    /// The collations that the engine has to be told of.
    pub collations: Vec<Collation>,
    /// How many columns there are before the values of the orders, the number among them.
    pub columns: usize,
    /// How many of the rows that are read are left out at the start, and how many there are at most, where more are read than that.
    pub range: Option<(u64, Option<u64>)>,
}

impl Followed {
    /// A statement that is read whole each time, with this many columns.
    pub fn whole(all: Fragment, columns: usize, collations: Vec<Collation>) -> Followed {
        Followed { all, some: None, keys: SortKeys::default(), collations, columns, range: None }
    }
}

/// A statement that reads certain rows, whose numbers are bound as a list in JSON.
pub struct SomeRows {
    /// The statement, without the list's value.
    pub statement: Fragment,
    /// How many values are bound before the list.
    pub list_at: usize,
}

/// The parts of a selection, of records or of groups of them.
#[derive(Clone, Debug, Default)]
pub struct Select {
    /// Conditions, all of which are satisfied.
    conditions: Vec<Fragment>,
    /// Their order.
    pub sorting: OrderBy,
    /// How many at most.
    pub limit: Option<u64>,
    /// How many to leave out at the start.
    pub offset: u64,
}

impl Select {
    /// Adds a condition that must be satisfied too.
    pub fn and(&mut self, condition: Fragment) {
        self.conditions.push(condition);
    }

    /// Whether only some records satisfy it.
    pub fn has_conditions(&self) -> bool {
        !self.conditions.is_empty()
    }

    fn condition(&mut self) -> Option<Fragment> {
        joined(std::mem::take(&mut self.conditions), "AND")
    }

    /// Keeps only what comes after the record whose orders have these values, and whose row number is `key`.
    pub fn after<T: Record>(&mut self, values: Vec<Value>, key: i64) {
        let condition = self.sorting.after(&key_of::<T>(), values, Value::Integer(key));
        self.and(condition);
    }

    /// The statement that reads all records, with whether each satisfies a condition in one more column, where there is one.
    pub fn rows_with<T: Record>(condition: Option<Condition<T>>) -> Fragment {
        let Some(condition) = condition else { return Fragment::text(T::statements().select.as_str()) };
        let read = Fragment::text(format!("SELECT {}, ", T::LAYOUT.read_all())).and(condition.into_fragment());
        read.then(" FROM ").then(&quoted(T::TABLE))
    }

    /// The statement that reads the selected records.
    pub fn rows<T: Record>(mut self) -> Fragment {
        let select = &T::statements().select;
        let mut out = Fragment::text(String::with_capacity(
            select.len() + self.conditions.iter().map(|c| c.text.len()).sum::<usize>() + SPARE,
        ));
        out.text.push_str(select);
        self.push_where(&mut out);
        self.push_order::<T>(&mut out);
        self.push_range(&mut out);
        out
    }

    /// The statements that follow the selected records, or some columns of them.
    pub fn followed<T: Record>(mut self, columns: Option<Vec<Picked>>) -> Followed {
        let (table, key) = (quoted(T::TABLE), key_of::<T>());
        let mut read = Fragment::text(key.clone());
        let count = 1 + columns.as_ref().map_or(T::COLUMNS.len(), Vec::len);
        let own = || (0..T::COLUMNS.len()).map(|at| Fragment::text(T::LAYOUT.read(at))).collect();
        let columns: Vec<Fragment> = columns.map_or_else(own, |c| c.into_iter().map(|c| c.what).collect());
        for what in columns.into_iter().chain(self.sorting.terms().cloned()) {
            read = read.then(", ").and(what);
        }
        let keys = self.sorting.sort_keys();
        let collations = self.sorting.collations().cloned().collect();
        let condition = self.condition();
        // What reads further rows changes with those too.
        let is_plain =
            ![Some(&read), condition.as_ref()].into_iter().flatten().any(|part| has_word(&part.text, "select"));
        let some = is_plain.then(|| {
            let list_at = read.values.len();
            let from = format!(" FROM json_each(?) AS velvet_number CROSS JOIN {table} ON {key} = velvet_number.value");
            let mut statement = Fragment::text("SELECT ").and(read.clone()).then(&from);
            if let Some(condition) = condition.clone() {
                statement = statement.then(" WHERE ").and(condition);
            }
            SomeRows { statement, list_at }
        });
        // What is read whole each time is read in its range.
        let range = (is_plain && self.is_ranged()).then_some((self.offset, self.limit));
        if range.is_some() {
            self.limit = self.limit.map(|limit| self.offset.saturating_add(limit).saturating_add(SPARE_ROWS));
            self.offset = 0;
        }
        let mut all = Fragment::text("SELECT ").and(read).then(" FROM ").then(&table);
        self.conditions.extend(condition);
        self.push_where(&mut all);
        self.push_order::<T>(&mut all);
        self.push_range(&mut all);
        Followed { all, some, keys, collations, columns: count, range }
    }

    /// The statement that reads some columns of the selected records. With `distinct`, each combination of values comes
    /// once; its order is then that of the sorting alone.
    pub fn columns<T: Record>(mut self, columns: Vec<Picked>, distinct: bool) -> Fragment {
        let mut out = Fragment::text(if distinct { "SELECT DISTINCT " } else { "SELECT " });
        push_list(&mut out, columns);
        out.text.push_str(" FROM ");
        push_quoted(&mut out.text, T::TABLE);
        self.push_where(&mut out);
        if !distinct {
            self.push_order::<T>(&mut out);
        } else if !self.sorting.is_empty() {
            out.text.push_str(" ORDER BY ");
            out.push(std::mem::take(&mut self.sorting).write(""));
        }
        self.push_range(&mut out);
        out
    }

    /// The statement that reads those of the selected records that match an expression of their search index: best first,
    /// unless there is an order, or `ranked` says that how well they match says nothing. Of each the key, and then all columns, or those that
    /// are picked.
    pub fn hits<T: Record>(mut self, expression: String, ranked: bool, picked: Option<Vec<Picked>>) -> Fragment {
        let index = quoted(&search_index(T::TABLE));
        let mut out = Fragment::text("SELECT ");
        if let Some(picked) = picked {
            out.text.push_str(&key_of::<T>());
            out.text.push_str(", ");
            push_list(&mut out, picked);
        } else {
            out.text.push_str(&T::LAYOUT.read_all());
        }
        self.push_matching::<T>(&mut out, expression);
        if self.sorting.is_empty() {
            out.text.push_str(&format!(" ORDER BY {index}.{}", if ranked { "rank" } else { "rowid" }));
        } else {
            self.push_order::<T>(&mut out);
        }
        self.push_range(&mut out);
        out
    }

    /// The statement that counts what [`Select::hits`] reads.
    pub fn count_hits<T: Record>(mut self, expression: String) -> Fragment {
        let mut out = Fragment::text("SELECT count(*) FROM (SELECT 1");
        self.push_matching::<T>(&mut out, expression);
        self.push_range(&mut out);
        out.then(")")
    }

    fn push_matching<T: Record>(&mut self, out: &mut Fragment, expression: String) {
        let table = quoted(T::TABLE);
        let index = quoted(&search_index(T::TABLE));
        let key = key_of::<T>();
        out.text.push_str(&format!(" FROM {index} CROSS JOIN {table} ON {key} = {index}.rowid WHERE {index} MATCH ?"));
        out.values.push(Value::Text(expression));
        if T::SEARCHABLE.iter().any(|(_, weight)| *weight != 1.0) {
            let weights: Vec<String> = T::SEARCHABLE.iter().map(|(_, weight)| format!("{weight:?}")).collect();
            out.text.push_str(&format!(" AND {index}.rank MATCH 'bm25({})'", weights.join(", ")));
        }
        if let Some(condition) = self.condition() {
            out.text.push_str(" AND ");
            out.push(condition);
        }
    }

    /// The statement that reads one column of the selected records, in the order that is quickest where there is no range.
    pub fn any_order<T: Record>(self, column: Picked) -> Fragment {
        if self.is_ranged() {
            return self.columns::<T>(vec![column], false);
        }
        let mut out = Fragment::text("SELECT ").and(column.what).then(" FROM ");
        self.push_source::<T>(&mut out);
        out
    }

    /// The statement that makes one value of all selected records, such as a sum.
    pub fn made<T: Record>(self, what: Fragment) -> Fragment {
        let mut out = Fragment::text("SELECT ").and(what).then(" FROM ");
        self.push_source::<T>(&mut out);
        out
    }

    /// The statement that puts the selected records in groups by the values of some columns: reads these, and what is made
    /// of each group. `groups` are the conditions, order and range of the groups.
    pub fn groups<T: Record>(self, columns: Vec<Picked>, made: Vec<Picked>, mut groups: Select) -> Fragment {
        let numbers: Vec<String> = (1..=columns.len()).map(|n| n.to_string()).collect();
        let numbers = numbers.join(", ");
        let mut out = Fragment::text("SELECT ");
        push_list(&mut out, columns.into_iter().chain(made).collect());
        out.text.push_str(" FROM ");
        self.push_source::<T>(&mut out);
        out.text.push_str(&format!(" GROUP BY {numbers}"));
        if let Some(condition) = groups.condition() {
            out = out.then(" HAVING ").and(condition);
        }
        let comma = if groups.sorting.is_empty() { "" } else { ", " };
        out = out.then(" ORDER BY ").and(std::mem::take(&mut groups.sorting).write("")).then(comma).then(&numbers);
        groups.push_range(&mut out);
        out
    }

    /// The statement that removes the selected records.
    pub fn remove<T: Record>(self) -> Fragment {
        let mut out = Fragment::text("DELETE FROM ");
        push_quoted(&mut out.text, T::TABLE);
        self.push_written::<T>(out)
    }

    /// The statement that gives columns of the selected records new values. Of those that are computed, it returns what they are then: the key, then
    /// each in order.
    pub fn update<T: Record>(self, new: Vec<New>) -> Fragment {
        let mut out = Fragment::text("UPDATE ");
        push_quoted(&mut out.text, T::TABLE);
        let (mut word, mut computed) = (" SET ", Vec::new());
        for New { column, value, is_computed } in sealed_for_new_names::<T>(new) {
            out.text.push_str(word);
            push_quoted(&mut out.text, column);
            out = out.then(" = ").and(value);
            computed.extend(is_computed.then_some(column));
            word = ", ";
        }
        let mut out = self.push_written::<T>(out);
        if !computed.is_empty() {
            out = out.then(&format!(" RETURNING {}", quoted(KEY_COLUMN)));
            computed.iter().for_each(|column| out.text.push_str(&format!(", {}", quoted(column))));
        }
        out
    }

    /// Ends a statement that writes: with the conditions, or with the keys of a range.
    fn push_written<T: Record>(mut self, mut out: Fragment) -> Fragment {
        if !self.is_ranged() {
            self.push_where(&mut out);
            return out;
        }
        let key = key_of::<T>();
        out.text.push_str(&format!(" WHERE {key} IN (SELECT {key} FROM "));
        push_quoted(&mut out.text, T::TABLE);
        self.push_where(&mut out);
        self.push_order::<T>(&mut out);
        self.push_range(&mut out);
        out.then(")")
    }

    /// The statement that counts the selected records.
    pub fn count<T: Record>(mut self) -> Fragment {
        let mut out = Fragment::text("SELECT count(*) FROM ");
        let ranged = self.is_ranged();
        out.text.push_str(if ranged { "(SELECT 1 FROM " } else { "" });
        push_quoted(&mut out.text, T::TABLE);
        self.push_where(&mut out);
        self.push_range(&mut out);
        out.then(if ranged { ")" } else { "" })
    }

    fn is_ranged(&self) -> bool {
        self.limit.is_some() || self.offset > 0
    }

    /// The table and its conditions, or, where there is a range, the records in it under the table's name.
    fn push_source<T: Record>(mut self, out: &mut Fragment) {
        let table = quoted(T::TABLE);
        if !self.is_ranged() {
            out.text.push_str(&table);
            return self.push_where(out);
        }
        out.text.push_str(&format!("(SELECT * FROM {table}"));
        self.push_where(out);
        self.push_order::<T>(out);
        self.push_range(out);
        out.text.push_str(&format!(") AS {table}"));
    }

    fn push_where(&mut self, out: &mut Fragment) {
        if let Some(condition) = self.condition() {
            out.text.push_str(" WHERE ");
            out.push(condition);
        }
    }

    fn push_order<T: Record>(&mut self, out: &mut Fragment) {
        out.text.push_str(" ORDER BY ");
        out.push(std::mem::take(&mut self.sorting).write(&key_of::<T>()));
    }

    /// The range is bound, so that all pages share one statement.
    fn push_range(&self, out: &mut Fragment) {
        if !self.is_ranged() {
            return;
        }
        let number = |n: u64| Value::Integer(i64::try_from(n).unwrap_or(i64::MAX));
        out.text.push_str(" LIMIT ?");
        out.values.push(self.limit.map_or(Value::Integer(-1), number));
        if self.offset > 0 {
            out.text.push_str(" OFFSET ?");
            out.values.push(number(self.offset));
        }
    }
}

fn push_list(out: &mut Fragment, columns: Vec<Picked>) {
    for (at, column) in columns.into_iter().enumerate() {
        out.text.push_str(if at > 0 { ", " } else { "" });
        out.push(column.what);
    }
}

fn key_of<T: Record>() -> String {
    let mut text = String::with_capacity(T::TABLE.len() + 8);
    push_quoted(&mut text, T::TABLE);
    text.push('.');
    push_quoted(&mut text, KEY_COLUMN);
    text
}

/// New values for columns, with what is sealed under a name sealed again where the name is among them.
fn sealed_for_new_names<T: Record>(mut new: Vec<New>) -> Vec<New> {
    let Some(name) = T::LAYOUT.sealed_name.map(|at| T::COLUMNS[at]) else { return new };
    let Some(name) = new.iter().find(|new| new.column == name).map(|new| new.value.clone()) else { return new };
    let is_sealed = |new: &New| T::SEALED.iter().any(|(at, _)| T::COLUMNS[*at] == new.column);
    let value = new.iter().position(is_sealed).map(|at| new.remove(at).value);
    if let Some((column, text)) = T::LAYOUT.sealed_again(&name.text, value.as_ref().map(|value| value.text.as_str())) {
        let mut again = Fragment { text: String::new(), ..value.unwrap_or_default() }.and(name);
        again.text = text;
        new.push(New { column, value: again, is_computed: false });
    }
    new
}
