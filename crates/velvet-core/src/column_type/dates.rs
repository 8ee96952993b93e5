//! Dates, times, time stamps and durations.
//!
//! Stored text has a fixed width, always with nine digits of fraction, so that the order of the text is the order in
//! time. Durations are whole nanoseconds.

use super::{ColumnType, Comparable, Misfit, Output, Summed, by_value};
use crate::schema::structure::Kind;
use crate::value::ValueRef;
use jiff::SignedDuration;
use jiff::civil::{Date, DateTime, Time};
use jiff::tz::TimeZone;
use std::fmt::{self, Write};
use std::time::Duration;

/// A line of text on the stack, long enough for every form below.
struct TimeText {
    bytes: [u8; 40],
    len: usize,
}

impl TimeText {
    fn of(parts: fmt::Arguments<'_>) -> TimeText {
        let mut line = TimeText { bytes: [0; 40], len: 0 };
        // The forms below have at most 30 characters, so they always fit.
        let _ = line.write_fmt(parts);
        line
    }

    fn as_str(&self) -> &str {
        std::str::from_utf8(&self.bytes[..self.len]).unwrap_or_default()
    }
}

impl Write for TimeText {
    fn write_str(&mut self, text: &str) -> fmt::Result {
        let end = self.len + text.len();
        self.bytes.get_mut(self.len..end).ok_or(fmt::Error)?.copy_from_slice(text.as_bytes());
        self.len = end;
        Ok(())
    }
}

fn date_text(date: Date) -> Result<TimeText, Misfit> {
    if date.year() < 0 {
        return Err(Misfit::new(date, "lies before the year 0; text of such dates would not sort in order of time"));
    }
    Ok(TimeText::of(format_args!("{:04}-{:02}-{:02}", date.year(), date.month(), date.day())))
}

fn time_text(time: Time) -> TimeText {
    let (hour, minute, second) = (time.hour(), time.minute(), time.second());
    TimeText::of(format_args!("{hour:02}:{minute:02}:{second:02}.{:09}", time.subsec_nanosecond()))
}

fn date_time_text(at: DateTime, end: &str) -> Result<TimeText, Misfit> {
    let date = date_text(at.date())?;
    Ok(TimeText::of(format_args!("{}T{}{end}", date.as_str(), time_text(at.time()).as_str())))
}

fn timestamp_text(at: jiff::Timestamp) -> Result<TimeText, Misfit> {
    date_time_text(TimeZone::UTC.to_datetime(at), "Z")
}

macro_rules! text_of_time {
    ($($rust:ty, $kind:ident, $in_words:literal, $write:expr;)*) => {$(
        impl ColumnType for $rust {
            by_value!($rust, $kind);

            fn store<O: Output>(value: &$rust, out: O) -> Result<(), Misfit> {
                let write: fn($rust) -> Result<TimeText, Misfit> = $write;
                out.text(write(*value)?.as_str());
                Ok(())
            }

            fn load(stored: ValueRef<'_>) -> Result<$rust, Misfit> {
                match stored {
                    ValueRef::Text(text) => text
                        .parse()
                        .map_err(|_| Misfit::new(format!("{text:?}"), concat!("is not ", $in_words))),
                    other => Err(Misfit::kind(other, concat!($in_words, " as text"))),
                }
            }
        }

        impl Comparable for $rust {}
    )*};
}

text_of_time! {
    Date, Date, "a date (2025-03-08)", date_text;
    Time, Time, "a time of day (14:30:00)", |time| Ok(time_text(time));
    DateTime, DateTime, "a date and time (2025-03-08T14:30:00)", |at| date_time_text(at, "");
    jiff::Timestamp, Timestamp, "a time stamp (2025-03-08T14:30:00Z)", timestamp_text;
}

fn nanoseconds<O: Output>(all: i128, shown: &dyn fmt::Debug, out: O) -> Result<(), Misfit> {
    match i64::try_from(all) {
        Ok(number) => out.integer(number),
        Err(_) => {
            return Err(Misfit::new(
                format!("{shown:?}"),
                "is longer than 292 years, the longest duration a column can hold",
            ));
        }
    }
    Ok(())
}

fn load_nanoseconds(stored: ValueRef<'_>) -> Result<i64, Misfit> {
    match stored {
        ValueRef::Integer(number) => Ok(number),
        other => Err(Misfit::kind(other, "a duration in whole nanoseconds")),
    }
}

impl ColumnType for SignedDuration {
    by_value!(SignedDuration, Duration);

    fn store<O: Output>(value: &SignedDuration, out: O) -> Result<(), Misfit> {
        nanoseconds(value.as_nanos(), value, out)
    }

    fn load(stored: ValueRef<'_>) -> Result<SignedDuration, Misfit> {
        load_nanoseconds(stored).map(SignedDuration::from_nanos)
    }
}

impl ColumnType for Duration {
    by_value!(Duration, Duration);

    fn store<O: Output>(value: &Duration, out: O) -> Result<(), Misfit> {
        nanoseconds(i128::try_from(value.as_nanos()).unwrap_or(i128::MAX), value, out)
    }

    fn load(stored: ValueRef<'_>) -> Result<Duration, Misfit> {
        let number = load_nanoseconds(stored)?;
        u64::try_from(number).map(Duration::from_nanos).map_err(|_| {
            Misfit::new(format!("{number} ns"), "is below zero, which std's Duration cannot be")
                .advise("Declare the field as jiff::SignedDuration")
        })
    }
}

impl Summed for SignedDuration {
    type Sum = SignedDuration;
}

impl Summed for Duration {
    type Sum = SignedDuration;
}

impl Comparable for SignedDuration {}
impl Comparable for Duration {}
