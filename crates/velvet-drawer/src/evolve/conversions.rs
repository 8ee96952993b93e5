//! Expressions that make values of a column's type of the forms in which other programs keep such.

use velvet_core::Value;
use velvet_core::schema::structure::{ColumnDefinition, Kind};
use velvet_core::value::name::quoted;

/// Seconds since 1970 above which a number counts milliseconds, and then microseconds: some thousand years.
const MILLISECONDS_FROM: i64 = 100_000_000_000;
const MICROSECONDS_FROM: i64 = 100_000_000_000_000;

/// Expressions over a row that may make values of the column's type of these, the likeliest first. Whoever asks tries them.
pub(super) fn candidates(column: &ColumnDefinition, values: &[Value]) -> Vec<String> {
    let name = quoted(&column.name);
    let (of_seconds, of_text) = match &column.kind {
        Kind::Date => ("strftime('%Y-%m-%d', {})", "strftime('%Y-%m-%d', {})"),
        Kind::Time => ("strftime('%H:%M:%f', {}) || '000000'", "strftime('%H:%M:%f', {}) || '000000'"),
        Kind::DateTime => {
            ("strftime('%Y-%m-%dT%H:%M:%f', {}) || '000000'", "strftime('%Y-%m-%dT%H:%M:%f', {}) || '000000'")
        }
        Kind::Timestamp => {
            ("strftime('%Y-%m-%dT%H:%M:%f', {}) || '000000Z'", "strftime('%Y-%m-%dT%H:%M:%f', {}) || '000000Z'")
        }
        Kind::Bool => return vec![format!("{name} IN (1, '1', 'true', 'TRUE', 'True', 'yes', 'on', 't', 'y')")],
        Kind::Uuid => {
            let hex = format!("lower(hex({name}))");
            let part = |from: u8, length: u8| format!("substr({hex}, {from}, {length})");
            let parts = [part(1, 8), part(9, 4), part(13, 4), part(17, 4), part(21, 12)].join(" || '-' || ");
            return vec![format!("lower(trim({name}, '{{}}'))"), parts];
        }
        Kind::Choice { values: declared, .. } => return of_choice(&name, declared, values),
        Kind::I8 | Kind::I16 | Kind::I32 | Kind::I64 | Kind::U8 | Kind::U16 | Kind::U32 | Kind::U64 => {
            return vec![format!("CAST(trim({name}) AS INTEGER)"), format!("CAST(round({name}) AS INTEGER)")];
        }
        Kind::F32 | Kind::F64 => return vec![format!("CAST(replace(trim({name}), ',', '.') AS REAL)")],
        Kind::Text => return vec![format!("CAST({name} AS TEXT)"), format!("coalesce({name}, '')")],
        _ => return Vec::new(),
    };
    let largest =
        values.iter().filter_map(|v| if let Value::Integer(n) = v { Some(n.saturating_abs()) } else { None }).max();
    let seconds = match largest {
        Some(n) if n >= MICROSECONDS_FROM => format!("{name} / 1000000.0, 'unixepoch'"),
        Some(n) if n >= MILLISECONDS_FROM => format!("{name} / 1000.0, 'unixepoch'"),
        _ => format!("{name}, 'unixepoch'"),
    };
    let by_number = of_seconds.replace("{}", &seconds);
    let by_text = of_text.replace("{}", &name);
    let is_number = |value: &Value| matches!(value, Value::Integer(_) | Value::Real(_));
    // Some rows may have texts, and others numbers.
    let mixed = format!("CASE typeof({name}) WHEN 'text' THEN {by_text} ELSE {by_number} END");
    match (values.iter().any(is_number), values.iter().all(|v| is_number(v) || *v == Value::Missing)) {
        // A decimal number may be a Julian day, which the engine takes for a time as it is.
        (true, true) if largest.is_none() => vec![by_text, by_number],
        (true, true) => vec![by_number],
        (true, false) => vec![mixed],
        (false, _) => vec![by_text],
    }
}

/// Numbers are the declared values from the first one on, or from the second; texts are those that differ in case, spaces or signs.
fn of_choice(name: &str, declared: &[String], values: &[Value]) -> Vec<String> {
    let plain =
        |text: &str| text.chars().filter(|c| c.is_alphanumeric()).flat_map(char::to_lowercase).collect::<String>();
    let case = |pairs: Vec<(String, String)>| {
        let whens: String =
            pairs.iter().map(|(from, to)| format!(" WHEN {from} THEN {}", Value::Text(to.clone()).literal())).collect();
        format!("CASE {name}{whens} ELSE {name} END")
    };
    let numbered = |first: usize| {
        case(declared.iter().enumerate().map(|(at, to)| ((at + first).to_string(), to.clone())).collect())
    };
    let named = values.iter().map(|value| match value {
        Value::Text(text) => {
            let to = declared.iter().find(|to| plain(to) == plain(text));
            (value.literal(), to.cloned().unwrap_or_else(|| "…".to_owned()))
        }
        other => (other.literal(), "…".to_owned()),
    });
    if values.iter().all(|value| matches!(value, Value::Integer(_))) {
        vec![numbered(0), numbered(1)]
    } else {
        vec![case(named.collect())]
    }
}
