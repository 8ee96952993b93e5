//! The studio's rows: made up, and the same on every run.

use crate::kilnbook::version_1::{Article, Clay, Cone, Firing, Piece, Reading, Stage};
use jiff::civil::{Date, date};
use jiff::{SignedDuration, Timestamp, ToSpan};
use velvet_drawer::{Key, OutsideFile, Stored};

/// How many pieces the studio has made.
pub const PIECES: usize = 24;

/// How many articles the supplier has.
pub const ARTICLES: usize = 4_800;

const REMARKS: [&str; 8] = [
    "",
    "Foot trimmed twice; still a little heavy on the left when it is turned slowly on the wheel",
    "For the market",
    "Hairline crack near the handle, watch it in the bisque",
    "Gift for the neighbour\nwho lent us the trailer",
    "Thrown off the hump, sixth of a set",
    "Lid sits tight",
    "Test of the new clay: throws well, dries slowly, and the surface takes a stamp better than anything before it",
];

const GLAZES: [&str; 6] = ["", "tenmoku", "Tenmoku, thin", "celadon", "ash over iron", "Celadon (2 coats)"];

const KINDS: [&str; 12] = [
    "Brush, soft",
    "Brush, flat",
    "Loop tool",
    "Wire",
    "Sponge",
    "Stoneware clay",
    "Porcelain clay",
    "Iron oxide",
    "Cobalt carbonate",
    "Whiting",
    "Kiln shelf",
    "Cone",
];

const MAKES: [&str; 10] = [
    "fine",
    "coarse",
    "long",
    "short",
    "round",
    "with oak handle",
    "for large work",
    "for small work",
    "refill",
    "set of three",
];

/// The firings that the studio has had.
pub fn firings() -> Vec<Firing> {
    let first: Timestamp = date(2025, 3, 2)
        .at(6, 15, 0, 0)
        .to_zoned_datetime(jiff::tz::TimeZone::UTC)
        .map(|z| z.timestamp())
        .unwrap_or_default();
    (0..3_i64)
        .map(|n| Firing {
            lit_at: first + (n * 21 * 24).hours(),
            burned: SignedDuration::from_mins(11 * 60 + 25 * n),
            cone: Cone([-4, 9, 10][n as usize]),
            wood: [212.5, 340.0, 355.25][n as usize],
            readings: (0..6).map(|i| Reading { minute: i * 90, celsius: (180 + i * 205) as u16 }).collect(),
            even: n != 1,
        })
        .collect()
}

/// The pieces that the studio has made, each after its kind, in the firings given.
pub fn pieces(firings: &[Stored<Firing>]) -> Vec<Piece> {
    (0..PIECES).map(|n| piece(n, firings)).collect()
}

/// The piece with this number.
pub fn piece(n: usize, firings: &[Stored<Firing>]) -> Piece {
    let stage = [Stage::Glazed, Stage::Bisque, Stage::Thrown][(n * 3 / PIECES).min(2)];
    let firing: Option<Key<Firing>> = match stage {
        Stage::Thrown | Stage::Unsure => None,
        _ => firings.get(n % 3).map(Stored::key),
    };
    let mark = format!("K-{}", 101 + n);
    Piece {
        stage,
        clay: [Clay::Stoneware, Clay::Porcelain, Clay::Stoneware, Clay::Earthenware][n % 4],
        wt: (n % 5 != 3).then(|| ((n * 137) % 1900 + 240) as f64 / 1000.0),
        glaze: if stage == Stage::Glazed { GLAZES[n % 6].to_owned() } else { String::new() },
        thrown_on: first_day().saturating_add((n as i64 * 2).days()),
        firing,
        photo: if n.is_multiple_of(3) { OutsideFile::new(format!("photos/{mark}.jpg")).ok() } else { None },
        thumbnail: n.is_multiple_of(4).then(|| thumbnail(n)),
        remarks: REMARKS[n % 8].to_owned(),
        mark,
    }
}

/// The supplier's articles.
pub fn articles() -> impl Iterator<Item = Article> {
    (0..ARTICLES).map(|n| Article {
        number: format!("{:05}-{}", n * 7 + 1000, n % 10),
        name: format!("{} {}, {}", KINDS[n % 12], MAKES[(n / 12) % 10], n / 120 + 1),
        cents: ((n * 7919) % 18_000 + 150) as u32,
        in_stock: n % 11 != 0,
    })
}

fn first_day() -> Date {
    date(2025, 2, 14)
}

/// A few bytes that begin as a picture does.
fn thumbnail(n: usize) -> Vec<u8> {
    let mut bytes = b"\x89PNG\r\n\x1a\n".to_vec();
    bytes.extend((0..56 + n).map(|i| (i * 31 + n) as u8));
    bytes
}
