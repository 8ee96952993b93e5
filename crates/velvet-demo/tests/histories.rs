//! What the demo app has in its own tests, as every app should.

use velvet_demo::kilnbook::version_1::{Clay, Stage};
use velvet_demo::kilnbook::version_2::{LastMark, List};
use velvet_demo::kilnbook::version_3::{Bench, Errand, Glaze, Piece};
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
        let picture = tx.attachments().add(&samples::picture(0, 16, 12)[..]).named("K-101.png").run()?;
        tx.named::<LastMark>().set("K", 101)?;
        tx.named::<List>().set("opening hours", vec!["Tue to Sat".into()])?;
        tx.settings::<Bench>().change(|bench| bench.last_glaze = Some(glaze.key()))?;
        tx.insert(Errand { what: "Sponges".into(), done: true })?;
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
            picture: Some(picture.key()),
            remarks: "Wide bowl".into(),
        };
        tx.insert(bowl).map(drop)
    });
    let look = |version, drawer: &velvet_drawer::Drawer| {
        assert!(drawer.records::<Piece>().search("bowl").count().unwrap() > 0);
        if version == 2 {
            let errands = drawer.records::<Errand>().only(|e| (e.what, e.done)).collect().unwrap();
            assert_eq!(errands, [("Cones 9 to 11".into(), false), ("Sponges".into(), false)]);
            let lists = drawer.named::<List>();
            assert_eq!(lists.count().unwrap(), 1, "what became a table is no list any more");
            assert_eq!(drawer.settings::<Bench>().get().unwrap().top_celsius, 1280);
        }
    };
    upgrades.look(look).check();
}
