//! What the demo app has in its own tests, as every app should.

use velvet_demo::kilnbook::{version_1, version_2, version_3};
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
    testing::every_version_upgrades(&version_3::schema());
}
