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

/// A small picture of a piece.
fn thumbnail(n: usize) -> Vec<u8> {
    picture(n, 16, 12)
}

/// A picture of a piece, as PNG: a pot before a wall.
pub fn picture(n: usize, width: u32, height: u32) -> Vec<u8> {
    let glaze: [f32; 3] =
        [[92.0, 52.0, 40.0], [150.0, 170.0, 140.0], [120.0, 124.0, 132.0], [176.0, 104.0, 64.0]][n % 4];
    let mut grain = n as u32 + 1;
    let mut pixels = Vec::with_capacity((width * height * 3) as usize);
    for y in 0..height {
        for x in 0..width {
            let (x, y) = (x as f32 / width as f32 * 2.0 - 1.0, y as f32 / height as f32 * 2.0 - 1.0);
            let half = pot(n, y);
            let lit = if x.abs() < half { 1.15 - 0.7 * (x / half + 0.35).abs() } else { 1.0 };
            let color = if x.abs() < half { glaze } else { [214.0 - 30.0 * y, 206.0 - 30.0 * y, 196.0 - 26.0 * y] };
            grain = grain.wrapping_mul(1_664_525).wrapping_add(1_013_904_223);
            let grain = (grain >> 28) as f32 - 8.0;
            pixels.extend(color.map(|c| (c * lit + grain).clamp(0.0, 255.0) as u8));
        }
    }
    encoded(&pixels, width, height).unwrap_or_default()
}

/// How wide a pot is at a height, from -1 to 1; 0 where there is none.
fn pot(n: usize, y: f32) -> f32 {
    if !(-0.7..0.75).contains(&y) {
        return 0.0;
    }
    let (belly, neck) = (0.34 + 0.04 * (n % 5) as f32, 0.16 + 0.03 * (n % 3) as f32);
    neck + (belly - neck) * (1.0 - ((y - 0.2) / 0.7).powi(2)).max(0.0).sqrt()
}

fn encoded(pixels: &[u8], width: u32, height: u32) -> Result<Vec<u8>, png::EncodingError> {
    let mut out = Vec::new();
    let mut encoder = png::Encoder::new(&mut out, width, height);
    encoder.set_color(png::ColorType::Rgb);
    let mut writer = encoder.write_header()?;
    writer.write_image_data(pixels)?;
    writer.finish()?;
    Ok(out)
}

/// What is to be bought for the studio.
pub const SHOPPING: [&str; 4] = ["Cones 9 to 11", "Wax resist, a litre", "Sponges", "Kiln wash"];
