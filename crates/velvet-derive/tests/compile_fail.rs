//! Mistakes are compile errors at the place that says what to do. The messages are in the files beside the cases.

#[test]
fn mistakes_do_not_compile() {
    trybuild::TestCases::new().compile_fail("tests/compile_fail/*.rs");
}
