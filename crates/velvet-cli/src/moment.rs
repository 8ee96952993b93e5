//! A moment as people type it.

use jiff::civil::{Date, DateTime};
use jiff::{Span, Timestamp, tz::TimeZone};

/// The forms that are understood.
const FORMS: &str = "a time in UTC is written as 2025-03-08, '2025-03-08 09:14' or 2025-03-08T09:14:07Z, or as how long ago: 2h, '3 days'";

/// The time stamp, as files have it, of what was typed.
pub(crate) fn parsed(typed: &str) -> Result<String, String> {
    at(typed, Timestamp::now()).map(|moment| format!("{moment:.9}")).ok_or_else(|| FORMS.to_owned())
}

fn at(typed: &str, now: Timestamp) -> Option<Timestamp> {
    let in_utc = |moment: DateTime| TimeZone::UTC.to_timestamp(moment).ok();
    let ago = |span: Span| in_utc(TimeZone::UTC.to_datetime(now).checked_sub(span).ok()?);
    typed
        .parse::<Timestamp>()
        .ok()
        .or_else(|| in_utc(typed.parse::<DateTime>().ok()?))
        .or_else(|| in_utc(typed.parse::<Date>().ok()?.into()))
        .or_else(|| ago(typed.parse::<Span>().ok()?.abs()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_moment_is_a_time_in_utc_or_so_long_ago() {
        let now: Timestamp = "2025-03-08T09:14:07Z".parse().unwrap_or_default();
        let expected = [
            ("2025-03-01", "2025-03-01T00:00:00Z"),
            ("2025-03-01 10:30", "2025-03-01T10:30:00Z"),
            ("2025-03-01T10:30:05+02:00", "2025-03-01T08:30:05Z"),
            ("2h", "2025-03-08T07:14:07Z"),
            ("3 days", "2025-03-05T09:14:07Z"),
        ];
        for (typed, moment) in expected {
            assert_eq!(at(typed, now).map(|m| m.to_string()).as_deref(), Some(moment), "{typed}");
        }
        assert_eq!([at("yesterday", now), at("", now), at("2025-02-30", now)], [None; 3]);
    }
}
