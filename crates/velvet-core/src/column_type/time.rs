//! The dates and times of the package `time`, stored as those of `jiff` are.

use super::StoredAs;
use jiff::Timestamp;
use jiff::civil;
use time::{Date, Month, OffsetDateTime, PrimitiveDateTime, Time, UtcOffset};

/// Of a date or moment beyond those that a file keeps.
fn beyond(value: impl ToString) -> Option<(String, String)> {
    Some((value.to_string(), "lies outside the years 0 to 9999".into()))
}

impl StoredAs for Date {
    type Stored = civil::Date;

    fn objection(&self) -> Option<(String, String)> {
        if (0..=9999).contains(&self.year()) { None } else { beyond(self) }
    }

    fn to_stored(&self) -> civil::Date {
        let year = i16::try_from(self.year()).ok();
        let date = year.and_then(|year| civil::Date::new(year, u8::from(self.month()) as i8, self.day() as i8).ok());
        date.unwrap_or_default()
    }

    fn from_stored(stored: civil::Date) -> Result<Date, String> {
        let month = Month::try_from(stored.month() as u8).map_err(|error| error.to_string())?;
        Date::from_calendar_date(stored.year().into(), month, stored.day() as u8).map_err(|_| "is not a date".into())
    }
}

impl StoredAs for Time {
    type Stored = civil::Time;

    fn to_stored(&self) -> civil::Time {
        let (hour, minute, second, nanosecond) = self.as_hms_nano();
        civil::Time::new(hour as i8, minute as i8, second as i8, nanosecond as i32).unwrap_or_default()
    }

    fn from_stored(stored: civil::Time) -> Result<Time, String> {
        let (hour, minute, second) = (stored.hour() as u8, stored.minute() as u8, stored.second() as u8);
        Time::from_hms_nano(hour, minute, second, stored.subsec_nanosecond() as u32)
            .map_err(|_| "is not a time of day".into())
    }
}

impl StoredAs for PrimitiveDateTime {
    type Stored = civil::DateTime;

    fn objection(&self) -> Option<(String, String)> {
        self.date().objection()
    }

    fn to_stored(&self) -> civil::DateTime {
        civil::DateTime::from_parts(self.date().to_stored(), self.time().to_stored())
    }

    fn from_stored(stored: civil::DateTime) -> Result<PrimitiveDateTime, String> {
        Ok(PrimitiveDateTime::new(Date::from_stored(stored.date())?, Time::from_stored(stored.time())?))
    }
}

/// The moment; it is read in UTC.
impl StoredAs for OffsetDateTime {
    type Stored = Timestamp;

    fn objection(&self) -> Option<(String, String)> {
        let is_kept = Timestamp::from_nanosecond(self.unix_timestamp_nanos()).is_ok();
        if is_kept && self.to_offset(UtcOffset::UTC).year() >= 0 { None } else { beyond(self) }
    }

    fn to_stored(&self) -> Timestamp {
        Timestamp::from_nanosecond(self.unix_timestamp_nanos()).unwrap_or_default()
    }

    fn from_stored(stored: Timestamp) -> Result<OffsetDateTime, String> {
        OffsetDateTime::from_unix_timestamp_nanos(stored.as_nanosecond()).map_err(|_| "is not a moment".into())
    }
}
