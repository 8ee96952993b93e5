use velvet_drawer::{Choice, Record};

#[derive(Record)]
struct Borrowed<'a> {
    text: &'a str,
}

#[derive(Record)]
struct Generic<T> {
    value: T,
}

#[derive(Record)]
struct Tuple(u32);

#[derive(Record)]
struct Empty {
    #[record(skip)]
    cache: u8,
}

#[derive(Record)]
enum Stage {
    Thrown,
}

#[derive(Record)]
union Both {
    a: u32,
}

#[derive(Choice)]
enum Clay {
    White,
    #[choice(name = "white")]
    Pale,
    Mixed(u8),
    #[choice(fallback)]
    Unsure,
    #[choice(fallback)]
    Other(String),
}

#[derive(Choice)]
struct Not;

fn main() {}
