//! The dates and times of the package `chrono`, stored as those of `jiff` are.

use super::StoredAs;
use chrono::{DateTime, Datelike, NaiveDate, NaiveDateTime, NaiveTime, Timelike, Utc};
use jiff::Timestamp;
use jiff::civil;

/// Of a date or moment beyond those that a file keeps.
fn beyond(value: impl ToString) -> Option<(String, String)> {
    Some((value.to_string(), "lies outside the years 0 to 9999".into()))
}

impl StoredAs for NaiveDate {
    type Stored = civil::Date;

    fn objection(&self) -> Option<(String, String)> {
        if (0..=9999).contains(&self.year()) { None } else { beyond(self) }
    }

    fn to_stored(&self) -> civil::Date {
        let date = i16::try_from(self.year()).ok();
        date.and_then(|year| civil::Date::new(year, self.month() as i8, self.day() as i8).ok()).unwrap_or_default()
    }

    fn from_stored(stored: civil::Date) -> Result<NaiveDate, String> {
        NaiveDate::from_ymd_opt(stored.year().into(), stored.month() as u32, stored.day() as u32)
            .ok_or_else(|| "is not a date".into())
    }
}

impl StoredAs for NaiveTime {
    type Stored = civil::Time;

    fn to_stored(&self) -> civil::Time {
        // A leap second has more than a thousand million nanoseconds; it is kept as the last of the second before.
        let nanosecond = self.nanosecond().min(999_999_999) as i32;
        civil::Time::new(self.hour() as i8, self.minute() as i8, self.second() as i8, nanosecond).unwrap_or_default()
    }

    fn from_stored(stored: civil::Time) -> Result<NaiveTime, String> {
        let (hour, minute, second) = (stored.hour() as u32, stored.minute() as u32, stored.second() as u32);
        NaiveTime::from_hms_nano_opt(hour, minute, second, stored.subsec_nanosecond() as u32)
            .ok_or_else(|| "is not a time of day".into())
    }
}

impl StoredAs for NaiveDateTime {
    type Stored = civil::DateTime;

    fn objection(&self) -> Option<(String, String)> {
        self.date().objection()
    }

    fn to_stored(&self) -> civil::DateTime {
        civil::DateTime::from_parts(self.date().to_stored(), self.time().to_stored())
    }

    fn from_stored(stored: civil::DateTime) -> Result<NaiveDateTime, String> {
        Ok(NaiveDateTime::new(NaiveDate::from_stored(stored.date())?, NaiveTime::from_stored(stored.time())?))
    }
}

impl StoredAs for DateTime<Utc> {
    type Stored = Timestamp;

    fn objection(&self) -> Option<(String, String)> {
        let is_kept = self.year() >= 0 && Timestamp::new(self.timestamp(), 0).is_ok();
        if is_kept { None } else { beyond(self) }
    }

    fn to_stored(&self) -> Timestamp {
        let nanosecond = self.timestamp_subsec_nanos().min(999_999_999) as i32;
        Timestamp::new(self.timestamp(), nanosecond).unwrap_or_default()
    }

    fn from_stored(stored: Timestamp) -> Result<DateTime<Utc>, String> {
        let nanosecond = stored.as_nanosecond().rem_euclid(1_000_000_000) as u32;
        let second = stored.as_nanosecond().div_euclid(1_000_000_000) as i64;
        DateTime::from_timestamp(second, nanosecond).ok_or_else(|| "is not a moment".into())
    }
}
