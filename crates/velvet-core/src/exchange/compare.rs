//! Comparing rows of two tables that come in the order of the columns by which they are matched.

use crate::value::ValueRef;
use std::cmp::Ordering;

/// The order in which the engine puts two values: nothing, then numbers, text and bytes.
pub fn order(a: ValueRef<'_>, b: ValueRef<'_>) -> Ordering {
    match (a, b) {
        (ValueRef::Integer(a), ValueRef::Integer(b)) => a.cmp(&b),
        (ValueRef::Real(a), ValueRef::Real(b)) => a.total_cmp(&b),
        (ValueRef::Integer(a), ValueRef::Real(b)) => whole_and_decimal(a, b),
        (ValueRef::Real(a), ValueRef::Integer(b)) => whole_and_decimal(b, a).reverse(),
        (a, b) => class(a).cmp(&class(b)).then_with(|| bytes(a).cmp(bytes(b))),
    }
}

/// As [`order`], where `a` to `z` are the same as `A` to `Z`. The engine does not look further than to a NUL, and then at the lengths.
pub fn order_ignoring_case(a: ValueRef<'_>, b: ValueRef<'_>) -> Ordering {
    if class(a) != 2 || class(b) != 2 {
        return order(a, b);
    }
    let (a, b) = (bytes(a), bytes(b));
    let low = |(a, b): (&u8, &u8)| (a.to_ascii_lowercase(), b.to_ascii_lowercase());
    let differs = a.iter().zip(b).map(low).find(|(a, b)| *a == 0 || a != b);
    differs.map_or(Ordering::Equal, |(a, b)| a.cmp(&b)).then(a.len().cmp(&b.len()))
}

/// The order of rows by several values.
pub fn order_of_rows<'v>(a: impl Iterator<Item = ValueRef<'v>>, b: impl Iterator<Item = ValueRef<'v>>) -> Ordering {
    a.zip(b).map(|(a, b)| order(a, b)).find(|o| o.is_ne()).unwrap_or(Ordering::Equal)
}

fn class(value: ValueRef<'_>) -> u8 {
    match value {
        ValueRef::Missing => 0,
        ValueRef::Integer(_) | ValueRef::Real(_) => 1,
        ValueRef::Text(_) | ValueRef::BrokenText(_) => 2,
        ValueRef::Bytes(_) => 3,
    }
}

fn bytes(value: ValueRef<'_>) -> &[u8] {
    match value {
        ValueRef::Text(text) => text.as_bytes(),
        ValueRef::BrokenText(bytes) | ValueRef::Bytes(bytes) => bytes,
        _ => &[],
    }
}

/// Not every whole number is a decimal one, so those are compared by their whole part first.
fn whole_and_decimal(whole: i64, decimal: f64) -> Ordering {
    if decimal.is_nan() || decimal < -9_223_372_036_854_775_808.0 {
        return Ordering::Greater;
    }
    if decimal >= 9_223_372_036_854_775_808.0 {
        return Ordering::Less;
    }
    whole.cmp(&(decimal.trunc() as i64)).then_with(|| 0.0_f64.total_cmp(&decimal.fract()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_are_ordered_as_the_engine_orders_them() {
        let sorted = [
            ValueRef::Missing,
            ValueRef::Real(f64::NEG_INFINITY),
            ValueRef::Integer(i64::MIN),
            ValueRef::Real(-1.5),
            ValueRef::Integer(-1),
            ValueRef::Integer(9_007_199_254_740_993),
            ValueRef::Real(9_007_199_254_740_994.0),
            ValueRef::Integer(i64::MAX),
            ValueRef::Real(1e300),
            ValueRef::Text(""),
            ValueRef::Text("Z"),
            ValueRef::Text("a"),
            ValueRef::BrokenText(&[0xff]),
            ValueRef::Bytes(&[]),
            ValueRef::Bytes(&[0]),
        ];
        for (at, a) in sorted.iter().enumerate() {
            for (other, b) in sorted.iter().enumerate() {
                assert_eq!(order(*a, *b), at.cmp(&other), "{a:?} {b:?}");
            }
        }
        assert_eq!(order(ValueRef::Integer(3), ValueRef::Real(3.0)), Ordering::Equal);
    }
}
