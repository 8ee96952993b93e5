use velvet_drawer::{Choice, Key, Record, Schema};

#[derive(Record, Clone, Debug)]
pub struct Potter {
    #[record(unique, ignore_case)]
    pub name: String,
    #[record(default = false)]
    pub is_guest: bool,
    pub joined: Option<jiff::civil::Date>,
}

#[derive(Record, Clone, Debug)]
#[record(unique(mark, potter_id), indexed(stage, weight))]
pub struct Piece {
    pub mark: String,
    #[record(indexed, default = PieceStage::Thrown)]
    pub stage: PieceStage,
    #[record(link(on_delete = remove))]
    pub potter_id: Key<Potter>,
    pub weight: Option<f64>,
    // The file counts seconds since 1970, so opening refuses it with the conversion to give: Options::adopt_converting.
    pub thrown_at: jiff::Timestamp,
    // The file has it in UTC without saying so, so opening refuses it with the conversion to give: Options::adopt_converting.
    pub created: jiff::Timestamp,
    pub photo: Option<Vec<u8>>,
    pub r#type: Option<String>,
}

#[derive(Choice, Clone, Debug, PartialEq, Eq)]
pub enum PieceStage {
    #[choice(name = "Glaze fired")]
    GlazeFired,
    Thrown,
}

pub fn schema() -> Schema {
    Schema::new("keys")
        .record::<Potter>()
        .record::<Piece>()
}
