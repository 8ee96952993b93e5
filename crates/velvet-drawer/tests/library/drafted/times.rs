use velvet_drawer::{Record, Schema};

#[derive(Record, Clone, Debug)]
pub struct Event {
    // The file counts milliseconds since 1970, so opening refuses it with the conversion to give: Options::adopt_converting.
    pub created_at: Option<jiff::Timestamp>,
    // The file counts microseconds since 1970, so opening refuses it with the conversion to give: Options::adopt_converting.
    pub changed_on: Option<jiff::Timestamp>,
    pub day: Option<jiff::civil::Date>,
    // The file has it in another form (take jiff::Timestamp if it is in UTC), so opening refuses it with the conversion to give: Options::adopt_converting.
    pub local: Option<jiff::civil::DateTime>,
    pub moment: Option<jiff::Timestamp>,
}

pub fn schema() -> Schema {
    Schema::new("times")
        .record::<Event>()
}
