//! One change as a line of JSON.

use crate::error::Error;
use crate::reading::Open;
use serde_json::{Map, Value as Json};
use velvet_core::fits::fits;
use velvet_core::name::{KEY_COLUMN, quoted};
use velvet_core::structure::{Column, Kind, Structure, Table};
use velvet_core::{Value, ValueRef, show};

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
fn told(structure: &Structure, table: &Table, column: &Column) -> String {
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
pub(super) fn linked_key<'s>(structure: &'s Structure, column: &Column) -> Option<(&'s Table, &'s Column)> {
    let Kind::Link { table } = &column.kind else { return None };
    let target = structure.table(table)?;
    Some((target, target.column(target.natural_key.as_ref()?)?))
}

impl Line {
    /// What is stored of a record now.
    pub(super) fn read(open: Open<'_>, table: &Table, own_key: Value, at: String) -> Result<Line, Error> {
        let structure = &open.inner.declared.structure;
        let columns: Vec<String> = table.columns.iter().map(|c| told(structure, table, c)).collect();
        let key_column = table.natural_key.as_deref().unwrap_or_default();
        let (columns, name) = (columns.join(", "), quoted(&table.name));
        let text = format!("SELECT {columns} FROM {name} WHERE {name}.{} = ?1", quoted(key_column));
        let fault = || open.fault(|| format!("cannot read what changed in {}", table.name));
        let mut statement = open.connection.prepare(&text).map_err(fault())?;
        statement.bind(1, own_key.as_ref()).map_err(fault())?;
        let mut rows = statement.rows();
        let columns = rows.next().map_err(fault())?.map(|row| {
            let value = |(at, column): (usize, &Column)| (column.name.clone(), row.value(at).to_value());
            table.columns.iter().enumerate().map(value).collect()
        });
        Ok(Line { table: table.name.clone(), own_key, at, columns })
    }

    /// The line as JSON.
    pub(super) fn to_json(&self, table: &Table) -> Json {
        let mut line = Map::new();
        line.insert("table".into(), self.table.as_str().into());
        line.insert("key".into(), json(None, self.own_key.as_ref()));
        line.insert("at".into(), self.at.as_str().into());
        match &self.columns {
            Some(columns) => {
                let cell = |(name, value): &(String, Value)| {
                    (name.clone(), json(table.column(name).map(|c| &c.kind), value.as_ref()))
                };
                line.insert("record".into(), Json::Object(columns.iter().map(cell).collect()));
            }
            None => {
                line.insert("removed".into(), true.into());
            }
        }
        Json::Object(line)
    }

    /// What decides between two changes of a record that were made at the same moment, in the same way on every device.
    pub(super) fn content(&self) -> String {
        let mut columns = self.columns.clone().unwrap_or_default();
        columns.sort_by(|a, b| a.0.cmp(&b.0));
        columns.into_iter().map(|(name, value)| format!("{name}={};", value.literal())).collect()
    }

    /// Reads a line.
    pub(super) fn parse(structure: &Structure, text: &str) -> Result<Line, String> {
        let line: Json = serde_json::from_str(text).map_err(|e| format!("is not JSON: {e}"))?;
        let text = |name: &str| line.get(name).and_then(Json::as_str).ok_or_else(|| format!("has no text `{name}`"));
        let name = text("table")?;
        let table =
            structure.table(name).ok_or_else(|| format!("is about the table `{name}`, which is not in the schema"))?;
        let own_column = table
            .natural_key
            .as_ref()
            .filter(|_| table.shared)
            .and_then(|key| table.column(key))
            .ok_or_else(|| format!("is about the table `{name}`, which is not shared"))?;
        let own_key = line.get("key").ok_or("has no `key`")?;
        let own_key = value(own_column, own_key)?;
        let at = text("at")?;
        let moment: jiff::Timestamp = at.parse().map_err(|_| format!("has no moment in `at`: {at:?}"))?;
        let at = format!("{moment:.9}");
        if line.get("removed") == Some(&Json::Bool(true)) {
            return Ok(Line { table: name.to_owned(), own_key, at, columns: None });
        }
        let record = line.get("record").and_then(Json::as_object).ok_or("has neither `record` nor `removed`")?;
        let mut columns = Vec::with_capacity(record.len());
        for (name, told) in record {
            let column = table.column(name).ok_or_else(|| {
                format!("has a column `{}.{name}`, which is not in the schema; a newer app wrote it", table.name)
            })?;
            // A link is told by the own key of the linked record.
            let linked = linked_key(structure, column);
            let as_told = match linked {
                Some((_, own_key)) => Column { optional: column.optional, ..own_key.clone() },
                None => column.clone(),
            };
            columns.push((name.clone(), value(&as_told, told)?));
        }
        Ok(Line { table: name.to_owned(), own_key, at, columns: Some(columns) })
    }
}

/// A stored value as JSON.
fn json(kind: Option<&Kind>, value: ValueRef<'_>) -> Json {
    match (value, kind) {
        (ValueRef::Missing, _) => Json::Null,
        (ValueRef::Integer(number), Some(Kind::Bool)) => (number != 0).into(),
        (ValueRef::Integer(number), _) => number.into(),
        (ValueRef::Real(number), _) => number.into(),
        (ValueRef::Text(text), Some(Kind::Json)) => serde_json::from_str(text).unwrap_or_else(|_| text.into()),
        (ValueRef::Text(text), _) => text.into(),
        (ValueRef::Bytes(bytes) | ValueRef::BrokenText(bytes), _) => serde_json::json!({ "hex": show::hex(bytes) }),
    }
}

/// A value of a column as it is stored.
fn value(column: &Column, told: &Json) -> Result<Value, String> {
    let value = match (told, &column.kind) {
        (Json::Null, _) => Value::Missing,
        (told, Kind::Json) => Value::Text(told.to_string()),
        (Json::Bool(yes), _) => Value::Integer((*yes).into()),
        (Json::Number(number), Kind::F32 | Kind::F64) => Value::Real(number.as_f64().unwrap_or(f64::NAN)),
        (Json::Number(number), _) => {
            Value::Integer(number.as_i64().ok_or_else(|| format!("has {number} in `{}`", column.name))?)
        }
        (Json::String(text), _) => Value::Text(text.clone()),
        (Json::Object(object), Kind::Bytes) => {
            let bytes = object.get("hex").and_then(Json::as_str).and_then(show::from_hex);
            Value::Bytes(bytes.ok_or_else(|| format!("has no bytes in `{}`", column.name))?)
        }
        (other, _) => return Err(format!("has {other} in `{}`", column.name)),
    };
    fits(column, value.as_ref()).map_err(|misfit| format!("does not fit: in `{}`, {misfit}", column.name))?;
    Ok(value)
}
