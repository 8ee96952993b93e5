//! The statements that load what belongs to many records at once.
//!
//! Each binds one list of keys as JSON. A row says in its last column for which place in the list it is, so that however many
//! records there are, it is one statement, and a key may stand in the list twice.

use crate::query::fragment::Fragment;
use crate::query::order::OrderBy;
use crate::records::record::Record;
use crate::value::name::{KEY_COLUMN, quoted};

const PLACE: &str = "velvet_list.key";
const FROM_LIST: &str = " FROM json_each(?) AS velvet_list CROSS JOIN ";

/// Reads the records of `T` whose keys are in a list.
pub fn by_keys<T: Record>(keys: String) -> Fragment {
    let table = quoted(T::TABLE);
    let key = format!("{table}.{}", quoted(KEY_COLUMN));
    select::<T>().then(FROM_LIST).then(&format!("{table} ON {key} = velvet_list.value")).bind(keys)
}

/// Reads the records of `T` whose `link` is in a list, those that satisfy the condition, in order; for each place in the list at most
/// so many.
pub fn by_links<T: Record>(
    link: Fragment,
    condition: Option<Fragment>,
    sorting: OrderBy,
    limit: Option<u64>,
    keys: String,
) -> Fragment {
    let table = quoted(T::TABLE);
    let key = format!("{table}.{}", quoted(KEY_COLUMN));
    let order = sorting.write(&key);
    let mut of_place = link.then(" = velvet_list.value");
    if let Some(condition) = condition {
        of_place = of_place.then(" AND (").and(condition).then(")");
    }
    if let Some(limit) = limit {
        let first = Fragment::text(format!("{key} IN (SELECT {key} FROM {table} WHERE ")).and(of_place);
        let limit = i64::try_from(limit).unwrap_or(i64::MAX);
        of_place = first.then(" ORDER BY ").and(order.clone()).then(&format!(" LIMIT {limit})"));
    }
    let out = select::<T>().then(FROM_LIST).then(&table).then(" ON ").bind(keys);
    out.and(of_place).then(" ORDER BY ").and(order)
}

/// Reads a computed value of each record of `T` whose key is in a list.
pub fn values_by_keys<T: Record>(value: Fragment, keys: String) -> Fragment {
    let table = quoted(T::TABLE);
    let key = format!("{table}.{}", quoted(KEY_COLUMN));
    let out = Fragment::text("SELECT ").and(value).then(", ").then(PLACE).then(FROM_LIST).bind(keys);
    out.then(&format!("{table} ON {key} = velvet_list.value"))
}

/// A record's key and columns, and the place in the list.
fn select<T: Record>() -> Fragment {
    Fragment::text(format!("SELECT {}, {PLACE}", T::LAYOUT.read_all()))
}
