use velvet_drawer::Record;

#[derive(Record)]
struct Note {
    #[record(own_key, created)]
    mark: String,
    #[record(created, changed)]
    written: jiff::Timestamp,
    #[record(skip, changed)]
    touched: jiff::Timestamp,
}

#[derive(Record)]
struct Line {
    #[record(created)]
    written: u64,
}

fn main() {}
