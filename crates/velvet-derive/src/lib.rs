//! The derives of Velvet Drawer. Apps use them through `velvet_drawer::{Record, Choice}`, where they are described.
//!
//! Both work in three steps: attributes are read into a plain model, the model is checked with every problem collected
//! at its place, and only a model without problems becomes code.

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

use proc_macro::TokenStream;
use proc_macro2::TokenStream as TokenStream2;
use syn::{DeriveInput, parse_macro_input};

/// Makes a struct a record: one struct, one table; one field, one column.
#[proc_macro_derive(Record, attributes(record))]
pub fn record(input: TokenStream) -> TokenStream {
    let input = parse_macro_input!(input as DeriveInput);
    record_code(input).into()
}

fn record_code(input: DeriveInput) -> TokenStream2 {
    let mut problems = problems::Problems::default();
    let model = model::Record::read(input, &mut problems);
    if let Some(model) = &model {
        check::record(model, &mut problems);
    }
    let code = |generate: fn(&model::Record) -> TokenStream2| model.as_ref().map(generate).unwrap_or_default();
    match problems.into_result() {
        Ok(()) => code(generate::record),
        Err(problems) => [problems.into_compile_error(), code(generate::checks_alone)].into_iter().collect(),
    }
}

/// Makes an enumeration a choice: a column type that is stored as text.
#[proc_macro_derive(Choice, attributes(choice))]
pub fn choice(input: TokenStream) -> TokenStream {
    let input = parse_macro_input!(input as DeriveInput);
    choice::code(input).unwrap_or_else(syn::Error::into_compile_error).into()
}

/// Makes a struct an excerpt: rows of a statement, or some columns of a record, are read as it by the names of its fields.
#[proc_macro_derive(Excerpt, attributes(excerpt))]
pub fn excerpt(input: TokenStream) -> TokenStream {
    let input = parse_macro_input!(input as DeriveInput);
    excerpt::code(input).unwrap_or_else(syn::Error::into_compile_error).into()
}
