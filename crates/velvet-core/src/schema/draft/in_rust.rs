//! Writing structures as Rust types.

use super::Drafted;
use crate::schema::structure::{ColumnDefinition, Holds, Index, Kind, OnDelete, Table};
use heck::{ToSnakeCase, ToUpperCamelCase};
use std::collections::BTreeSet;
use std::fmt::Write as _;

/// Names of types that the text uses itself, or that every Rust file has.
const TAKEN: &[&str] = &[
    "Box", "Choice", "Err", "Key", "None", "Ok", "Option", "Record", "Result", "Schema", "Self", "Some", "String",
    "Vec",
];

/// Words of the language that no field can be called, also not with `r#`.
const NEVER: &[&str] = &["crate", "self", "super", "_"];

/// Words of the language that a field can be called with `r#` before it.
const KEYWORDS: &[&str] = &[
    "abstract", "as", "async", "await", "become", "box", "break", "const", "continue", "do", "dyn", "else", "enum",
    "extern", "false", "final", "fn", "for", "gen", "if", "impl", "in", "let", "loop", "macro", "match", "mod", "move",
    "mut", "override", "priv", "pub", "ref", "return", "static", "struct", "trait", "true", "try", "type", "typeof",
    "unsafe", "unsized", "use", "virtual", "where", "while", "yield",
];

/// The types of tables as Rust, and the schema that they make, of an app of this name.
pub fn in_rust(app: &str, drafts: &[Drafted]) -> String {
    let mut taken: BTreeSet<String> = TAKEN.iter().map(|name| (*name).to_owned()).collect();
    let tables: Vec<(&Table, String)> = drafts
        .iter()
        .filter_map(|draft| draft.table.as_ref())
        .map(|table| (table, free(&type_name(&table.name, "Table"), "Row", &mut taken)))
        .collect();
    let type_of = |table: &str| {
        let found = tables.iter().find(|(t, _)| t.name.eq_ignore_ascii_case(table));
        found.map(|(_, name)| name.as_str())
    };
    let mut types = String::new();
    let mut choices = String::new();
    for draft in drafts {
        let about = |column: Option<&str>| -> Vec<&str> {
            let notes = draft.notes.iter().filter(|(of, _)| of.as_deref() == column);
            notes.map(|(_, note)| note.as_str()).collect()
        };
        let Some((table, ident)) = tables.iter().find(|(t, _)| draft.table.as_ref() == Some(*t)) else {
            for note in about(None) {
                let _ = writeln!(types, "\n// {:?}: {note}.", draft.name);
            }
            continue;
        };
        let mut words = Vec::new();
        if ident.to_snake_case() != table.name {
            words.push(format!("name = {:?}", table.name));
        }
        if table.shared {
            words.push("shared".to_owned());
        }
        let fields = field_names(table);
        let field =
            |column: &str| fields[table.columns.iter().position(|c| c.name == column).unwrap_or_default()].as_str();
        for Index { columns, unique } in table.indexes.iter().filter(|i| i.columns.len() > 1) {
            let list: Vec<&str> = columns.iter().map(|c| field(c)).collect();
            words.push(format!("{}({})", if *unique { "unique" } else { "indexed" }, list.join(", ")));
        }
        types.push('\n');
        let _ = writeln!(types, "#[derive(Record, Clone, Debug)]");
        if !words.is_empty() {
            let _ = writeln!(types, "#[record({})]", words.join(", "));
        }
        let _ = writeln!(types, "pub struct {ident} {{");
        for (column, field) in table.columns.iter().zip(&fields) {
            for note in about(Some(&column.name)) {
                let _ = writeln!(types, "    // {note}.");
            }
            let inner = rust_type(&column.kind, &type_of, &mut |values, fallback| {
                let name = free(&format!("{ident}{}", type_name(&column.name, "Column")), "Choice", &mut taken);
                choices.push_str(&of_choice(&name, values, fallback));
                name
            });
            let words = words_of(table, column, field, &inner);
            if !words.is_empty() {
                let _ = writeln!(types, "    #[record({})]", words.join(", "));
            }
            let whole = if column.optional { format!("Option<{inner}>") } else { inner };
            let _ = writeln!(types, "    pub {field}: {whole},");
        }
        types.push_str("}\n");
    }
    let mut used = vec!["Record", "Schema"];
    if !choices.is_empty() {
        used.insert(0, "Choice");
    }
    if types.contains("Key<") {
        used.insert(used.len() - 2, "Key");
    }
    let mut out = format!("use velvet_drawer::{{{}}};\n{types}{choices}\n", used.join(", "));
    let _ = writeln!(out, "pub fn schema() -> Schema {{\n    Schema::new({app:?})");
    for (_, ident) in &tables {
        let _ = writeln!(out, "        .record::<{ident}>()");
    }
    if drafts.iter().any(|draft| draft.holds == Some(Holds::Attachments)) {
        out.push_str("        .attachments()\n");
    }
    out + "}\n"
}

/// What the attribute of a field says.
fn words_of(table: &Table, column: &ColumnDefinition, field: &str, ty: &str) -> Vec<String> {
    let mut words = Vec::new();
    if field.trim_start_matches("r#").to_snake_case() != column.name {
        words.push(format!("name = {:?}", column.name));
    }
    let alone = |unique: bool| table.indexes.iter().any(|i| i.unique == unique && i.columns == [column.name.as_str()]);
    if table.own_key.as_deref() == Some(&column.name) {
        words.push("own_key".to_owned());
    } else if alone(true) {
        words.push("unique".to_owned());
    } else if alone(false) && !matches!(column.kind, Kind::Link { .. }) {
        words.push("indexed".to_owned());
    }
    let flags = [
        (column.ignore_case, "ignore_case"),
        (table.searchable.contains(&column.name), "searchable"),
        (column.private, "private"),
        (column.remove_unlinked, "remove_unlinked"),
        (matches!(column.kind, Kind::Sealed { .. }), "sealed"),
    ];
    words.extend(flags.iter().filter(|(is, _)| *is).map(|(_, word)| (*word).to_owned()));
    match column.on_delete {
        Some(OnDelete::Remove) => words.push("link(on_delete = remove)".to_owned()),
        Some(OnDelete::Clear) => words.push("link(on_delete = clear)".to_owned()),
        Some(OnDelete::Refuse) | None => {}
    }
    words.extend(column.default.as_ref().and_then(|literal| default(&column.kind, literal, ty)));
    words
}

/// The word for a default, where its literal is one of the type's.
fn default(kind: &Kind, literal: &str, ty: &str) -> Option<String> {
    let literal = literal.trim();
    let text = || Some(literal.strip_prefix('\'')?.strip_suffix('\'')?.replace("''", "'"));
    let value = match kind {
        Kind::I8 | Kind::I16 | Kind::I32 | Kind::I64 | Kind::U8 | Kind::U16 | Kind::U32 | Kind::U64 => {
            literal.parse::<i64>().ok()?.to_string()
        }
        Kind::F32 | Kind::F64 => format!("{:?}", literal.parse::<f64>().ok().filter(|n| n.is_finite())?),
        Kind::Bool => match literal.to_ascii_uppercase().as_str() {
            "1" | "TRUE" => "true".to_owned(),
            "0" | "FALSE" => "false".to_owned(),
            _ => return None,
        },
        Kind::Text => format!("{:?}", text()?),
        Kind::Choice { values, .. } => {
            let at = values.iter().position(|value| Some(value) == text().as_ref())?;
            format!("{ty}::{}", variants(values)[at])
        }
        _ => return None,
    };
    Some(format!("default = {value}"))
}

/// The Rust type of a kind; `choice` makes one of these names.
fn rust_type<'t>(
    kind: &Kind,
    type_of: &impl Fn(&str) -> Option<&'t str>,
    choice: &mut dyn FnMut(&[String], bool) -> String,
) -> String {
    let plain = match kind {
        Kind::I8 => "i8",
        Kind::I16 => "i16",
        Kind::I32 => "i32",
        Kind::I64 => "i64",
        Kind::U8 => "u8",
        Kind::U16 => "u16",
        Kind::U32 => "u32",
        Kind::U64 => "u64",
        Kind::F32 => "f32",
        Kind::F64 => "f64",
        Kind::Bool => "bool",
        Kind::Text => "String",
        Kind::Bytes => "Vec<u8>",
        Kind::Date => "jiff::civil::Date",
        Kind::Time => "jiff::civil::Time",
        Kind::DateTime => "jiff::civil::DateTime",
        Kind::Timestamp => "jiff::Timestamp",
        Kind::Duration => "jiff::SignedDuration",
        Kind::Uuid => "uuid::Uuid",
        Kind::Json => "serde_json::Value",
        Kind::File => "velvet_drawer::OutsideFile",
        Kind::Link { table } => match type_of(table) {
            Some(linked) => return format!("Key<{linked}>"),
            None if table == crate::schema::structure::ATTACHMENT => "velvet_drawer::Key<velvet_drawer::Attachment>",
            None => "i64",
        },
        Kind::Sealed { holds, .. } => return rust_type(holds, type_of, choice),
        Kind::Choice { values, fallback } => return choice(values, *fallback),
    };
    plain.to_owned()
}

fn of_choice(name: &str, values: &[String], fallback: bool) -> String {
    let mut out = format!("\n#[derive(Choice, Clone, Debug, PartialEq, Eq)]\npub enum {name} {{\n");
    for (value, variant) in values.iter().zip(variants(values)) {
        if variant.to_snake_case() != *value {
            let _ = writeln!(out, "    #[choice(name = {value:?})]");
        }
        let _ = writeln!(out, "    {variant},");
    }
    if fallback {
        let _ = writeln!(out, "    #[choice(fallback)]\n    AnyOther(String),");
    }
    out + "}\n"
}

/// The variants for the names of a choice, in order.
fn variants(values: &[String]) -> Vec<String> {
    let mut taken = BTreeSet::from(["AnyOther".to_owned(), "Self".to_owned()]);
    values.iter().map(|value| free(&type_name(value, "Value"), "Too", &mut taken)).collect()
}

/// The names of a table's fields, in order.
fn field_names(table: &Table) -> Vec<String> {
    let mut taken = BTreeSet::new();
    let names = table.columns.iter().map(|column| {
        let plain = identifier(&column.name.to_snake_case());
        let plain = match plain.chars().next() {
            Some(first) if first.is_alphabetic() => plain,
            _ => format!("column_{plain}"),
        };
        let plain = if NEVER.contains(&plain.as_str()) { format!("{plain}_") } else { plain };
        let name = free(&plain, "_too", &mut taken);
        if KEYWORDS.contains(&name.as_str()) { format!("r#{name}") } else { name }
    });
    names.collect()
}

/// The name of a type for a name of the file; `instead` begins it where that cannot.
fn type_name(name: &str, instead: &str) -> String {
    let plain = identifier(&name.to_upper_camel_case());
    if plain.starts_with(char::is_alphabetic) { plain } else { format!("{instead}{plain}") }
}

fn identifier(name: &str) -> String {
    name.chars().filter(|c| c.is_alphabetic() || c.is_ascii_digit() || *c == '_').collect()
}

/// The name, with an end that is not taken yet where it is.
fn free(name: &str, end: &str, taken: &mut BTreeSet<String>) -> String {
    let mut name = name.to_owned();
    while !taken.insert(name.clone()) {
        name.push_str(end);
    }
    name
}
