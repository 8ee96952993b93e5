use velvet_drawer::{Record, Schema};

#[derive(Record, Clone, Debug)]
pub struct Note {
    pub title: String,
    pub body: Option<String>,
    // The file computes it; its values stay as they are, and the app fills it from then on.
    pub length: Option<i64>,
}

// "titles": it is a view, which stays in the file as it is.

// "words": it is a virtual table, which stays in the file as it is.

pub fn schema() -> Schema {
    Schema::new("surroundings")
        .record::<Note>()
}
