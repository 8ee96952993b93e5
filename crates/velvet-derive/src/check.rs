//! What the parts of a record say about each other: every rule that can be seen without knowing a type.

use crate::model::{Field, Record, inside_option};
use crate::names::{KEY_COLUMN, objection, suggestion};
use crate::problems::Problems;
use proc_macro2::Span;
use syn::Ident;
use syn::ext::IdentExt;

/// Checks a record as a whole.
pub(crate) fn record(record: &Record, problems: &mut Problems) {
    if let Some(objection) = objection(&record.table.text) {
        problems.here(record.table.at, format!("{objection}; name the table with #[record(name = \"…\")]"));
    }
    if record.stored().next().is_none() {
        problems.at(&record.ident, "a record needs at least one field that is stored");
    }
    for field in &record.fields {
        self::field(field, problems);
    }
    if let (Some(_), Some((at, _))) = (record.shared, record.stored().find_map(|field| field.sealed.as_ref())) {
        let message = "other devices have other keys, so a shared record has nothing that is sealed; remove `sealed`, or `shared` from the struct";
        problems.here(*at, message);
    }
    columns_are_distinct(record, problems);
    one_own_key(record, problems);
    a_name_and_a_value(record, problems);
    groups_name_stored_fields(record, problems);
}

fn field(field: &Field, problems: &mut Problems) {
    let mut refuse = |at: Span, message: &str| problems.here(at, message);
    if let Some(at) = field.skip {
        let others = [
            field.own_key,
            field.unique,
            field.indexed,
            field.json,
            field.private,
            field.ignore_case,
            field.fallback,
            field.remove_unlinked,
            field.created,
            field.changed,
        ];
        let more = [
            field.searchable.is_some(),
            field.default.is_some(),
            field.link.is_some(),
            field.origin.is_some(),
            field.fill.is_some(),
            field.sealed.is_some(),
        ];
        if others.iter().any(Option::is_some) || more.contains(&true) {
            refuse(
                at,
                "a skipped field is not stored, so nothing else can be said about its column; remove the other words",
            );
        }
        return;
    }
    if let (Some(at), Some(_)) = (field.unique, field.own_key) {
        refuse(at, "an own key is unique already; remove `unique`");
    }
    if let (Some(at), true) = (field.indexed, field.own_key.is_some() || field.unique.is_some()) {
        refuse(at, "an own key or unique field has an index already; remove `indexed`");
    }
    if let (Some(at), Some(_)) = (field.json, &field.link) {
        refuse(at, "a link is the key of a record, not JSON; remove `json`");
    }
    if let (Some(at), true) = (field.created.or(field.changed), field.own_key.is_some() || field.json.is_some()) {
        refuse(at, "the library fills this field with the moment of a write, so it can be neither an own key nor JSON");
    }
    if let (Some(at), Some(_)) = (field.created, field.changed) {
        refuse(at, "it is filled when the record is inserted, or at each write; keep one of the words");
    }
    if let (Some(at), true) = (field.ignore_case, field.own_key.or(field.unique).is_none()) {
        refuse(
            at,
            "values ignore case where no two records may share one: write it beside `unique` or `own_key`; to find or sort by others, use \
             `is_ignore_case`, `contains_ignore_case` or `ascending_ignore_case`",
        );
    }
    if let (Some(at), true) = (field.fallback, field.own_key.is_some() || field.link.is_some()) {
        refuse(at, "a record that is known by it, or linked to, cannot be another one instead; remove `fallback`");
    }
    if let Some((at, _)) = &field.sealed {
        let found = [field.own_key, field.unique, field.indexed, field.created, field.changed, field.remove_unlinked];
        if found.iter().any(Option::is_some) || field.searchable.is_some() || field.link.is_some() {
            refuse(
                *at,
                "the file cannot find, compare or link by what it cannot read; remove `sealed`, or the other words",
            );
        }
        if field.default.is_some() {
            refuse(
                *at,
                "a default would stand in the file for everybody to read; remove it, or make the field an Option",
            );
        }
    }
    if let (Some(at), Some(_)) = (field.private, field.own_key) {
        refuse(at, "an own key says which record it is, also in a copy without what is private; remove `private`");
    }
    if let (Some((at, _)), Some(_)) = (field.searchable, field.json) {
        refuse(at, "words are searched in text; a nested value is JSON: keep the text in a field of its own");
    }
    if let (Some((at, _)), "rank" | "rowid") = (field.searchable, field.column.text.to_ascii_lowercase().as_str()) {
        refuse(
            at,
            "the search index has a column of this name itself; name this one otherwise with #[record(name = \"…\")]",
        );
    }
    if let (Some((at, _)), Some(_)) = (&field.default, field.own_key) {
        refuse(*at, "records with the same default would have the same own key; remove `default`");
    }
    if let (Some(at), Some(_)) = (field.own_key, field.inside_option()) {
        refuse(at, "an own key cannot be missing; make the field's type one that is always there");
    }
    one_kind_of_nothing(field, problems);
}

/// Checks a field of an excerpt.
pub(crate) fn one_kind_of_nothing(field: &Field, problems: &mut Problems) {
    if field.inside_option().and_then(inside_option).is_some() {
        problems.at(&field.ty, "the file keeps only one kind of nothing, so an Option of an Option cannot be a column");
    }
}

fn columns_are_distinct(record: &Record, problems: &mut Problems) {
    let mut seen: Vec<&Field> = Vec::new();
    for field in record.stored() {
        let column = &field.column.text;
        if column.eq_ignore_ascii_case(KEY_COLUMN) {
            problems.here(
                field.column.at,
                "every table has a column `key` for its row numbers; name this one with #[record(name = \"…\")]",
            );
        } else if let Some(objection) = objection(column) {
            problems.here(field.column.at, format!("{objection}; name the column with #[record(name = \"…\")]"));
        }
        if let Some(other) = seen.iter().find(|other| other.column.text.eq_ignore_ascii_case(column)) {
            let other = other.ident.unraw();
            problems.here(
                field.column.at,
                format!("the column `{column}` is already that of the field `{other}`; name one of them otherwise"),
            );
        }
        seen.push(field);
    }
}

fn one_own_key(record: &Record, problems: &mut Problems) {
    if let (Some(at), None) = (record.shared, record.stored().find(|f| f.own_key.is_some())) {
        problems.here(at, "other devices know a shared record by its own key: mark a field with #[record(own_key)]");
    }
    let ignores_case = record.stored().filter(|f| f.own_key.is_some()).find_map(|f| f.ignore_case);
    if let (Some(_), Some(at)) = (record.shared, ignores_case) {
        problems.here(
            at,
            "other devices know a shared record by its own key, letter by letter; remove `ignore_case`, or have a field of its own that is \
             unique and ignores case",
        );
    }
    for field in record.stored().filter(|f| f.own_key.is_some()).skip(1) {
        problems.at(
            &field.ident,
            "a record has one own key; for a rule over several fields write #[record(unique(first, second))] on the struct",
        );
    }
}

fn a_name_and_a_value(record: &Record, problems: &mut Problems) {
    let Some(at) = record.named else { return };
    let mut idents: Vec<String> = record.fields.iter().map(|f| f.ident.to_string()).collect();
    idents.sort_unstable();
    if idents != ["name", "value"] || record.fields.iter().any(|f| f.skip.is_some()) {
        problems.here(
            at,
            "named values are a name and a value: a struct with the fields `name` and `value`, and no others; for several values \
             under a name, give `value` a type of its own and mark it with #[record(json)], or leave `named` away",
        );
    }
}

fn groups_name_stored_fields(record: &Record, problems: &mut Problems) {
    for (group, _) in &record.groups {
        for (position, ident) in group.iter().enumerate() {
            let is_sealed = |f: &Field| f.ident == *ident && f.sealed.is_some();
            if record.stored().any(is_sealed) {
                problems.at(ident, "the file cannot compare what it cannot read; leave the sealed field out");
            }
            if group[..position].contains(ident) {
                problems.at(ident, format!("`{ident}` is named twice"));
            } else if !record.stored().any(|f| f.ident == *ident) {
                let names: Vec<String> = record.stored().map(|f| f.ident.unraw().to_string()).collect();
                let near = suggestion(&Ident::to_string(ident), names.iter().map(String::as_str));
                problems.at(ident, format!("`{ident}` is not a stored field of this record{near}"));
            }
        }
    }
}
