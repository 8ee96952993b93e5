//! What the demo app has in its own tests, as every app should.

use velvet_demo::kilnbook::version_1::{Clay, Stage};
use velvet_demo::kilnbook::version_3::{Glaze, Piece};
use velvet_demo::kilnbook::{version_1, version_2, version_3};
use velvet_demo::samples;
use velvet_drawer::testing;

#[test]
fn version_1_is_recorded() {
    testing::history_is_current(&version_1::schema(), "histories/version-1.json");
}

#[test]
fn version_2_is_recorded() {
    testing::history_is_current(&version_2::schema(), "histories/version-2.json");
}

#[test]
fn version_3_is_recorded() {
    testing::history_is_current(&version_3::schema(), "histories/version-3.json");
}

#[test]
fn files_of_every_version_open() {
    let schema = version_3::schema();
    let upgrades = testing::Upgrades::of(&schema).samples("samples", |tx| {
        let firing = tx.insert(samples::firings().remove(0))?;
        let glaze = tx.insert(Glaze { name: "tenmoku".into(), wordings: "tenmoku, thin".into() })?;
        let bowl = Piece {
            mark: "K-101".into(),
            stage: Stage::Glazed,
            clay: Clay::Stoneware,
            grams: Some(640),
            glaze: Some(glaze.key()),
            thrown_on: jiff::civil::date(2025, 3, 8),
            firing: Some(firing.key()),
            shelf: None,
            photo: None,
            thumbnail: None,
            remarks: "Wide bowl".into(),
        };
        tx.insert(bowl).map(drop)
    });
    upgrades.look(|_, drawer| assert!(drawer.records::<Piece>().search("bowl").count().unwrap() > 0)).check();
}
