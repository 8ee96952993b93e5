use velvet_drawer::{Choice, Key, Record, Schema};

#[derive(Record, Clone, Debug)]
#[record(shared, unique(form, group))]
pub struct Select {
    #[record(own_key)]
    pub mark: String,
    #[record(unique)]
    pub uuid: Option<uuid::Uuid>,
    #[record(unique, ignore_case)]
    pub alias: Option<String>,
    #[record(searchable)]
    pub title: String,
    #[record(searchable)]
    pub remarks: Option<String>,
    pub i8: i8,
    pub i16: i16,
    pub i32: i32,
    pub i64: i64,
    pub u8: u8,
    pub u16: u16,
    pub u32: u32,
    pub u64: u64,
    pub f32: f32,
    pub f64: f64,
    pub maybe_f64: Option<f64>,
    pub bool: bool,
    #[record(private)]
    pub secret: Option<Vec<u8>>,
    pub bytes: Vec<u8>,
    #[record(indexed)]
    pub day: jiff::civil::Date,
    pub time: jiff::civil::Time,
    pub date_time: jiff::civil::DateTime,
    pub timestamp: jiff::Timestamp,
    pub signed: jiff::SignedDuration,
    pub duration: jiff::SignedDuration,
    #[record(default = SelectForm::PleaseSelect)]
    pub form: SelectForm,
    pub group: u8,
    pub bearing: u16,
    pub maybe_bearing: Option<u16>,
    pub json: serde_json::Value,
    pub curve: serde_json::Value,
    pub maybe_curve: Option<serde_json::Value>,
    pub loose: serde_json::Value,
    pub file: velvet_drawer::OutsideFile,
    #[record(link(on_delete = clear))]
    pub twin: Option<Key<Select>>,
    #[record(link(on_delete = remove))]
    pub owner: Option<Key<Owner>>,
    pub r#type: String,
    pub letter: String,
    pub never_zero: i64,
    pub address: Option<String>,
    pub four: Vec<u8>,
    #[record(searchable)]
    pub boxed: String,
}

#[derive(Record, Clone, Debug)]
#[record(shared)]
pub struct Owner {
    #[record(own_key)]
    pub name: String,
    pub since: Option<jiff::Timestamp>,
    pub touched: Option<jiff::Timestamp>,
}

// "said": it holds named values, which are declared otherwise.

// "table": it holds settings, which are declared otherwise.

#[derive(Choice, Clone, Debug, PartialEq, Eq)]
pub enum SelectForm {
    Bowl,
    #[choice(name = "please select")]
    PleaseSelect,
    #[choice(fallback)]
    AnyOther(String),
}

pub fn schema() -> Schema {
    Schema::new("everything")
        .record::<Select>()
        .record::<Owner>()
}
