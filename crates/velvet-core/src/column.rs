//! A record's column in conditions and orders.

use crate::assignment::Assignment;
use crate::column_type::{ColumnType, Misfit, Optional, Ordered, Textual, stored_arg};
use crate::condition::Condition;
use crate::name::{KEY_COLUMN, push_quoted};
use crate::order::Order;
use crate::record::Record;
use crate::value::Value;
use std::marker::PhantomData;

/// A column of `T` that holds a `C`, as a closure of `filter` or `sort_by` gets it.
///
/// Every condition takes the column's own argument: a `&str` for text, a number for a number, the inner type for an
/// `Option`, so that literals just work.
pub struct Column<T, C> {
    name: &'static str,
    of: PhantomData<fn() -> (T, C)>,
}

impl<T, C> Clone for Column<T, C> {
    fn clone(&self) -> Self {
        *self
    }
}

impl<T, C> Copy for Column<T, C> {}

/// The largest number of values of `one_of` that are written into the statement; more go in as one list.
const FEW: usize = 8;

impl<T, C> Column<T, C> {
    /// The column with this name.
    #[doc(hidden)]
    pub const fn named(name: &'static str) -> Column<T, C> {
        Column { name, of: PhantomData }
    }
}

impl<T: Record, C: ColumnType> Column<T, C> {
    /// The column's name in a statement.
    #[doc(hidden)]
    pub fn text(self) -> String {
        let mut text = String::with_capacity(T::TABLE.len() + self.name.len() + 32);
        push_quoted(&mut text, T::TABLE);
        text.push('.');
        push_quoted(&mut text, self.name);
        text
    }

    fn misfit<Out>(self, misfit: Misfit) -> Condition<Out> {
        let position = T::COLUMNS.iter().position(|c| *c == self.name);
        Condition::impossible(position.map_or(misfit.clone(), |p| misfit.at(p)))
    }

    /// The condition that this column stands to `arg` as `operator` says.
    fn compare(self, operator: &str, arg: C::Arg<'_>) -> Condition<T> {
        match stored_arg::<C>(arg) {
            Ok(value) => Condition::new(self.text() + operator + " ?", vec![value]),
            Err(misfit) => self.misfit(misfit),
        }
    }

    /// Equal to `arg`.
    pub fn is(self, arg: C::Arg<'_>) -> Condition<T> {
        self.compare(" =", arg)
    }

    /// Not equal to `arg`; a missing value is not equal to anything.
    pub fn is_not(self, arg: C::Arg<'_>) -> Condition<T> {
        self.compare(if C::OPTIONAL { " IS NOT" } else { " <>" }, arg)
    }

    /// Equal to one of `args`, of which there may be thousands. Equal to none of them when there are none.
    pub fn one_of<'a>(self, args: impl IntoIterator<Item = C::Arg<'a>>) -> Condition<T> {
        let values: Result<Vec<Value>, Misfit> = args.into_iter().map(stored_arg::<C>).collect();
        match values {
            Err(misfit) => self.misfit(misfit),
            Ok(values) if values.len() <= FEW => {
                let marks = vec!["?"; values.len()].join(", ");
                Condition::new(format!("{} IN ({marks})", self.text()), values)
            }
            Ok(values) => {
                let list = Value::Text(json_list(&values));
                let value = if matches!(values[0], Value::Bytes(_)) { "unhex(value)" } else { "value" };
                Condition::new(format!("{} IN (SELECT {value} FROM json_each(?))", self.text()), vec![list])
            }
        }
    }

    /// Gives this column the value `arg` in every record of a selection; see `Records::update`.
    pub fn set(self, arg: C::Arg<'_>) -> Assignment<T> {
        let position = T::COLUMNS.iter().position(|c| *c == self.name).unwrap_or_default();
        Assignment::new(self.name, stored_arg::<C>(arg).map_err(|misfit| misfit.at(position)))
    }

    /// Makes this column missing in every record of a selection; see `Records::update`.
    pub fn clear(self) -> Assignment<T>
    where
        C: Optional,
    {
        Assignment::new(self.name, Ok(Value::Missing))
    }

    /// In the order of this column, smallest first.
    pub fn ascending(self) -> Order<T> {
        Order::new(self.text(), false)
    }

    /// In the order of this column, largest first.
    pub fn descending(self) -> Order<T> {
        Order::new(self.text(), true)
    }
}

// The bounds stand on the methods, so that the compiler's message is the bound's own.
impl<T: Record, C: ColumnType> Column<T, C> {
    /// Missing.
    pub fn is_none(self) -> Condition<T>
    where
        C: Optional,
    {
        Condition::new(self.text() + " IS NULL", Vec::new())
    }

    /// Present.
    pub fn is_some(self) -> Condition<T>
    where
        C: Optional,
    {
        Condition::new(self.text() + " IS NOT NULL", Vec::new())
    }

    /// `arg` or larger.
    pub fn at_least(self, arg: C::Arg<'_>) -> Condition<T>
    where
        C: Ordered,
    {
        self.compare(" >=", arg)
    }

    /// `arg` or smaller.
    pub fn at_most(self, arg: C::Arg<'_>) -> Condition<T>
    where
        C: Ordered,
    {
        self.compare(" <=", arg)
    }

    /// Larger than `arg`.
    pub fn more_than(self, arg: C::Arg<'_>) -> Condition<T>
    where
        C: Ordered,
    {
        self.compare(" >", arg)
    }

    /// Smaller than `arg`.
    pub fn less_than(self, arg: C::Arg<'_>) -> Condition<T>
    where
        C: Ordered,
    {
        self.compare(" <", arg)
    }

    /// `least` or larger, and `most` or smaller.
    pub fn between(self, least: C::Arg<'_>, most: C::Arg<'_>) -> Condition<T>
    where
        C: Ordered,
    {
        self.at_least(least) & self.at_most(most)
    }

    /// The same as the value of another column of the record; two missing values are the same.
    pub fn same_as<D: ColumnType<Inner = C::Inner>>(self, other: Column<T, D>) -> Condition<T> {
        Condition::new(format!("{} IS {}", self.text(), other.text()), Vec::new())
    }

    /// Larger than the value of another column of the record.
    pub fn above<D: ColumnType<Inner = C::Inner>>(self, other: Column<T, D>) -> Condition<T>
    where
        C: Ordered,
    {
        Condition::new(format!("{} > {}", self.text(), other.text()), Vec::new())
    }

    /// Smaller than the value of another column of the record.
    pub fn below<D: ColumnType<Inner = C::Inner>>(self, other: Column<T, D>) -> Condition<T>
    where
        C: Ordered,
    {
        Condition::new(format!("{} < {}", self.text(), other.text()), Vec::new())
    }

    /// Begins with `prefix`. An index on the column serves it.
    pub fn starts_with(self, prefix: &str) -> Condition<T>
    where
        C: Textual,
    {
        let from = Condition::new(self.text() + " >= ?", vec![Value::Text(prefix.to_owned())]);
        match after_all_that_start_with(prefix) {
            Some(end) => from & Condition::new(self.text() + " < ?", vec![Value::Text(end)]),
            None => from,
        }
    }

    /// Ends with `suffix`.
    pub fn ends_with(self, suffix: &str) -> Condition<T>
    where
        C: Textual,
    {
        if suffix.is_empty() {
            return self.contains("");
        }
        let text = format!("substr(CAST({} AS BLOB), -{}) = ?", self.text(), suffix.len());
        Condition::new(text, vec![Value::Bytes(suffix.as_bytes().to_vec())])
    }

    /// Contains `part`.
    pub fn contains(self, part: &str) -> Condition<T>
    where
        C: Textual,
    {
        Condition::new(format!("instr({}, ?) > 0", self.text()), vec![Value::Text(part.to_owned())])
    }

    /// Equal to `text`, whether letters are large or small.
    pub fn is_ignoring_case(self, text: &str) -> Condition<T>
    where
        C: Textual,
    {
        Condition::new(format!("{FOLD}({}) = ?", self.text()), vec![Value::Text(fold(text))])
    }

    /// Begins with `prefix`, whether letters are large or small.
    pub fn starts_with_ignoring_case(self, prefix: &str) -> Condition<T>
    where
        C: Textual,
    {
        Condition::new(format!("instr({FOLD}({}), ?) = 1", self.text()), vec![Value::Text(fold(prefix))])
    }

    /// Contains `part`, whether letters are large or small.
    pub fn contains_ignoring_case(self, part: &str) -> Condition<T>
    where
        C: Textual,
    {
        Condition::new(format!("instr({FOLD}({}), ?) > 0", self.text()), vec![Value::Text(fold(part))])
    }
}

impl<T: Record, C: ColumnType<Value = bool>> Column<T, C> {
    /// True.
    pub fn is_true(self) -> Condition<T> {
        Condition::new(self.text() + " = 1", Vec::new())
    }

    /// False.
    pub fn is_false(self) -> Condition<T> {
        Condition::new(self.text() + " = 0", Vec::new())
    }
}

/// The column of a record's key, for conditions and orders.
pub const fn key_column<T: Record>() -> Column<T, crate::Key<T>> {
    Column::named(KEY_COLUMN)
}

/// The name under which the engine knows [`fold`].
pub const FOLD: &str = "velvet_fold";

/// Text without the difference between large and small letters, in every script that has one.
pub fn fold(text: &str) -> String {
    text.to_lowercase()
}

/// The smallest text that is larger than every text that starts with `prefix`, if there is one.
fn after_all_that_start_with(prefix: &str) -> Option<String> {
    let mut chars: Vec<char> = prefix.chars().collect();
    while let Some(last) = chars.pop() {
        let next = (u32::from(last) + 1..=u32::from(char::MAX)).find_map(char::from_u32);
        if let Some(next) = next {
            chars.push(next);
            return Some(chars.into_iter().collect());
        }
    }
    None
}

fn json_list(values: &[Value]) -> String {
    let list: Vec<serde_json::Value> = values
        .iter()
        .map(|value| match value {
            Value::Missing => serde_json::Value::Null,
            Value::Integer(n) => (*n).into(),
            Value::Real(x) => (*x).into(),
            Value::Text(text) => text.as_str().into(),
            Value::Bytes(bytes) => crate::show::hex(bytes).into(),
        })
        .collect();
    serde_json::Value::Array(list).to_string()
}
