//! One change as a line of JSON.

use crate::drawer::{Mode, Scope};
use crate::error::Error;
use crate::schema::Declared;
use serde::Deserialize;
use serde_json::Value as Json;
use serde_json::value::RawValue;
use std::borrow::Cow;
use std::collections::BTreeMap;
use velvet_core::Value;
use velvet_core::exchange::show;
use velvet_core::exchange::{of_json, to_json};
use velvet_core::schema::structure::{ColumnDefinition, Kind, Structure, Table};
use velvet_core::value::name::{KEY_COLUMN, quoted};

/// A record as it is after a change, or that it is gone. Links are the own keys of the linked records.
#[derive(Clone, Debug, PartialEq)]
pub(super) struct Line {
    pub(super) table: String,
    pub(super) own_key: Value,
    /// When it was changed.
    pub(super) at: String,
    /// The columns that are told, by name; nothing when the record was removed.
    pub(super) columns: Option<Vec<(String, Value)>>,
}

/// The value by which a record is known elsewhere, for each column: a linked record's own key in place of its row number.
fn told(structure: &Structure, table: &Table, column: &ColumnDefinition) -> String {
    let here = format!("{}.{}", quoted(&table.name), quoted(&column.name));
    match linked_key(structure, column) {
        Some((target, own_key)) => format!(
            "(SELECT linked.{} FROM {} AS linked WHERE linked.{} = {here})",
            quoted(&own_key.name),
            quoted(&target.name),
            quoted(KEY_COLUMN)
        ),
        None => here,
    }
}

/// The table that a column links to, and the column of the own key there.
pub(super) fn linked_key<'s>(
    structure: &'s Structure,
    column: &ColumnDefinition,
) -> Option<(&'s Table, &'s ColumnDefinition)> {
    let Kind::Link { table } = &column.kind else { return None };
    let target = structure.table(table)?;
    Some((target, target.column(target.own_key.as_ref()?)?))
}

impl Line {
    /// What is stored of a record now.
    pub(super) fn read<M: Mode>(scope: Scope<'_, M>, table: &Table, own_key: Value, at: String) -> Result<Line, Error> {
        let structure = &scope.inner.declared.structure;
        let columns: Vec<String> = table.columns.iter().map(|c| told(structure, table, c)).collect();
        let key_column = table.own_key.as_deref().unwrap_or_default();
        let (columns, name) = (columns.join(", "), quoted(&table.name));
        let text = format!("SELECT {columns} FROM {name} WHERE {name}.{} = ?1", quoted(key_column));
        let columns = scope.doing(
            || format!("cannot read what changed in {}", table.name),
            || {
                Ok(scope.connection.one(&text, [(&own_key).into()], |row| {
                    let value =
                        |(at, column): (usize, &ColumnDefinition)| (column.name.clone(), row.value(at).to_value());
                    table.columns.iter().enumerate().map(value).collect()
                })?)
            },
        )?;
        Ok(Line { table: table.name.clone(), own_key, at, columns })
    }

    /// The line as JSON.
    pub(super) fn to_json(&self, structure: &Structure, table: &Table) -> String {
        let own_key = to_json(self.own_key.as_ref(), None);
        let told = match &self.columns {
            Some(columns) => {
                let cell = |(name, value): &(String, Value)| {
                    // A link is told by the own key of the linked record.
                    let column = table.column(name).map(|c| linked_key(structure, c).map_or(c, |(_, own_key)| own_key));
                    format!("{}:{}", Json::from(name.as_str()), to_json(value.as_ref(), column.map(|c| &c.kind)))
                };
                format!("\"columns\":{{{}}}", columns.iter().map(cell).collect::<Vec<_>>().join(","))
            }
            None => "\"removed\":true".to_owned(),
        };
        let (table, at) = (Json::from(self.table.as_str()), Json::from(self.at.as_str()));
        format!("{{\"table\":{table},\"own_key\":{own_key},\"at\":{at},{told}}}")
    }

    /// What decides between two changes of a record that were made at the same moment, in the same way on every device.
    pub(super) fn content(&self) -> String {
        let mut columns = self.columns.clone().unwrap_or_default();
        columns.sort_by(|a, b| a.0.cmp(&b.0));
        columns.into_iter().map(|(name, value)| format!("{name}={};", value.literal())).collect()
    }

    /// Reads a line.
    pub(super) fn parse(declared: &Declared, text: &str) -> Result<Line, String> {
        let structure = &declared.structure;
        let line: RawLine<'_> = serde_json::from_str(text).map_err(|e| format!("is not a change in JSON: {e}"))?;
        let name = line.table.as_ref();
        let table =
            structure.table(name).ok_or_else(|| format!("is about the table `{name}`, which is not in the schema"))?;
        let own_column = table
            .own_key
            .as_ref()
            .filter(|_| table.shared)
            .and_then(|key| table.column(key))
            .ok_or_else(|| format!("is about the table `{name}`, which is not shared"))?;
        let own_key = value(declared, table, own_column, line.own_key)?;
        let moment: jiff::Timestamp = line.at.parse().map_err(|_| format!("has no moment in `at`: {:?}", line.at))?;
        let (at, name) = (format!("{moment:.9}"), name.to_owned());
        if line.removed {
            return Ok(Line { table: name, own_key, at, columns: None });
        }
        let told = line.columns.ok_or("has neither `columns` nor `removed`")?;
        let mut columns = Vec::with_capacity(told.len());
        for (name, told) in told {
            let column = table.column(&name).ok_or_else(|| {
                format!("has a column `{}.{name}`, which is not in the schema; a newer app wrote it", table.name)
            })?;
            // A link is told by the own key of the linked record.
            let told = match linked_key(structure, column) {
                Some(_) if column.optional && told.get() == "null" => Value::Missing,
                Some((target, own_key)) => value(declared, target, own_key, told)
                    .map_err(|why| format!("has in `{name}` no own key of `{}`: it {why}", target.name))?,
                None => value(declared, table, column, told)?,
            };
            columns.push((name, told));
        }
        // Left out, it is the key by which the record is known.
        match columns.iter().find(|(name, _)| *name == own_column.name) {
            None => columns.push((own_column.name.clone(), own_key.clone())),
            Some((_, value)) if *value == own_key || own_column.ignore_case && is_same_text(value, &own_key) => {}
            Some((place, value)) => {
                let [key, value] = [&own_key, value].map(|v| show::plain(v.as_ref()));
                return Err(format!("is about `{key}` by its own_key, and about `{value}` by its column `{place}`"));
            }
        }
        Ok(Line { table: name, own_key, at, columns: Some(columns) })
    }
}

/// Whether two texts are the same but for the case of letters from a to z, as the engine compares them.
pub(super) fn is_same_text(a: &Value, b: &Value) -> bool {
    matches!((a, b), (Value::Text(a), Value::Text(b)) if a.eq_ignore_ascii_case(b))
}

/// A line as it is written.
#[derive(Deserialize)]
struct RawLine<'a> {
    #[serde(borrow)]
    table: Cow<'a, str>,
    #[serde(borrow)]
    own_key: &'a RawValue,
    #[serde(borrow)]
    at: Cow<'a, str>,
    #[serde(default)]
    removed: bool,
    #[serde(borrow, default)]
    columns: Option<BTreeMap<String, &'a RawValue>>,
}

/// A value of a column as it is stored, which its type can read.
fn value(declared: &Declared, table: &Table, column: &ColumnDefinition, told: &RawValue) -> Result<Value, String> {
    let place = &column.name;
    let value = match (
        of_json(told.get(), Some(&column.kind))
            .map_err(|why| format!("has in `{place}` what cannot be stored: {why}"))?,
        &column.kind,
    ) {
        // Whoever writes such lines may write a decimal number without a point.
        (Value::Integer(whole), Kind::F32 | Kind::F64) => Value::Real(whole as f64),
        (value, _) => value,
    };
    let fits = declared.fits(&table.name, place, value.as_ref());
    fits.map_err(|misfit| format!("does not fit: in `{place}`, {misfit}"))?;
    Ok(value)
}
