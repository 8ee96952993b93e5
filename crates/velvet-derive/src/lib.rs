//! The derives of Velvet Drawer. Apps use them through `velvet_drawer::{Record, Choice}`, where they are described.
//!
//! Both work in three steps: attributes are read into a plain model, the model is checked with every problem collected
//! at its place, and only a model without problems becomes code. One with problems becomes a stand-in beside the problems, which does
//! nothing but keep the compiler from saying at every use of the type that it is none of ours.

#![forbid(unsafe_code)]
#![warn(clippy::unwrap_used)]

mod attributes;
mod check;
mod choice;
mod excerpt;
mod generate;
mod model;
mod names;
mod problems;
mod settings;
mod stand_in;

use generate::Form;
use proc_macro::TokenStream;
use proc_macro2::TokenStream as TokenStream2;
use stand_in::stand_in;
use syn::{Data, DeriveInput, parse_macro_input};

/// Makes a struct a record: one struct, one table; one field, one column.
#[proc_macro_derive(Record, attributes(record))]
pub fn record(input: TokenStream) -> TokenStream {
    let input = parse_macro_input!(input as DeriveInput);
    record_code(input).into()
}

fn record_code(input: DeriveInput) -> TokenStream2 {
    let mut problems = problems::Problems::default();
    // An enumeration that should have been a choice stands in for one.
    let stands_in = matches!(input.data, Data::Enum(_)).then(|| stand_in(&input, choice::standing_in));
    let model = model::Record::read(input, &mut problems);
    if let Some(model) = &model {
        check::record(model, &mut problems);
    }
    match (problems.into_result(), model) {
        (Ok(()), model) => model.map(|model| generate::record(&model, Form::Whole)).unwrap_or_default(),
        (Err(problems), model) => {
            let stands_in = stands_in.or_else(|| model.map(|model| generate::record(&model, Form::StandIn)));
            problems.into_compile_error().into_iter().chain(stands_in.unwrap_or_default()).collect()
        }
    }
}

/// Makes an enumeration a choice: a column type that is stored as text.
#[proc_macro_derive(Choice, attributes(choice))]
pub fn choice(input: TokenStream) -> TokenStream {
    let input = parse_macro_input!(input as DeriveInput);
    let stands_in = stand_in(&input, choice::standing_in);
    let code = choice::code(input).unwrap_or_else(|e| e.into_compile_error().into_iter().chain(stands_in).collect());
    code.into()
}

/// Makes a struct an excerpt: rows of a statement, or some columns of a record, are read as it by the names of its fields.
#[proc_macro_derive(Excerpt, attributes(excerpt))]
pub fn excerpt(input: TokenStream) -> TokenStream {
    let input = parse_macro_input!(input as DeriveInput);
    let stands_in = stand_in(&input, excerpt::standing_in);
    let code = excerpt::code(input).unwrap_or_else(|e| e.into_compile_error().into_iter().chain(stands_in).collect());
    code.into()
}

/// Makes a struct settings: one typed document, with a default for each field.
#[proc_macro_derive(Settings, attributes(settings))]
pub fn settings(input: TokenStream) -> TokenStream {
    let input = parse_macro_input!(input as DeriveInput);
    let stands_in = stand_in(&input, settings::standing_in);
    let code = settings::code(input).unwrap_or_else(|e| e.into_compile_error().into_iter().chain(stands_in).collect());
    code.into()
}
