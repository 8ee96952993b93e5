//! All that is wrong with a type, reported together.

use proc_macro2::Span;
use quote::ToTokens;
use std::fmt::Display;

/// Collects problems, each at its place.
#[derive(Default)]
pub(crate) struct Problems(Option<syn::Error>);

impl Problems {
    /// Adds a problem at the place of `at`.
    pub(crate) fn at(&mut self, at: impl ToTokens, message: impl Display) {
        self.add(syn::Error::new_spanned(at, message));
    }

    /// Adds a problem at a place.
    pub(crate) fn here(&mut self, at: Span, message: impl Display) {
        self.add(syn::Error::new(at, message));
    }

    /// Adds a problem that knows its place.
    pub(crate) fn add(&mut self, error: syn::Error) {
        match &mut self.0 {
            Some(all) => all.combine(error),
            None => self.0 = Some(error),
        }
    }

    /// All problems, or nothing when there are none.
    pub(crate) fn into_result(self) -> syn::Result<()> {
        self.0.map_or(Ok(()), Err)
    }
}
