//! What only the compiler can see, because it takes knowing the type of a field.

use super::Parts;
use crate::model::{Field, Rule};
use proc_macro2::{Span, TokenStream};
use quote::{quote, quote_spanned};
use syn::spanned::Spanned;

/// What makes the compiler check the type of each field, before it meets the type in code that the app's author did not write; and what its words ask of it.
pub(super) fn checks(parts: &Parts<'_>) -> TokenStream {
    let fields = || parts.stored.iter().zip(&parts.types);
    let are_columns = are_columns(fields().map(|(f, ty)| (f.ty.span(), ty.clone())));
    let assertions = fields().filter(|_| !parts.stands_in()).map(|(f, ty)| assertions(f, ty));
    quote!(#are_columns #(#assertions)*)
}

/// What makes the compiler say at each place that the type there is no column.
pub(crate) fn are_columns(types: impl Iterator<Item = (Span, TokenStream)>) -> TokenStream {
    let types = types.map(|(at, ty)| quote_spanned!(at=> is_a_column::<#ty>();));
    quote! {
        #[allow(unused_imports)]
        use velvet::{Fit as _, Unfit as _};
        fn is_a_column<C: velvet::ColumnType>() {}
        const _: fn() = || {
            #(#types)*
        };
    }
}

/// What only the compiler can see, because it takes knowing the type: reported at the word that it is about.
fn assertions(field: &Field, ty: &TokenStream) -> TokenStream {
    let mut out = TokenStream::new();
    let mut assert = |at: Span, condition: TokenStream, message: &str| {
        out.extend(quote_spanned!(at=> const _: () = ::core::assert!(#condition, #message);));
    };
    if let Some((at, rule)) = field.link {
        assert(
            at,
            quote!(matches!(<#ty as velvet::ColumnType>::SHAPE, velvet::Shape::Link)),
            "`link` is for a field that holds the key of another record: `Key<Glaze>` or `Option<Key<Glaze>>`",
        );
        if rule == Rule::Clear {
            assert(
                at,
                quote!(<#ty as velvet::ColumnType>::OPTIONAL),
                "a link that is cleared becomes nothing: make the field an Option, or choose `refuse` or `remove`",
            );
        }
    }
    if let Some(at) = field.remove_unlinked {
        assert(
            at,
            quote!(matches!(<#ty as velvet::ColumnType>::SHAPE, velvet::Shape::Link)),
            "`remove_unlinked` is for a field that holds the key of another record: `Key<Attachment>` or `Option<Key<Attachment>>`",
        );
    }
    if let Some(at) = field.own_key {
        assert(
            at,
            quote!(!<#ty as velvet::ColumnType>::OPTIONAL),
            "an own key cannot be missing: make the field's type one that is always there",
        );
    }
    if let Some(at) = field.ignore_case.or(field.searchable.map(|(at, _)| at)) {
        out.extend(quote_spanned!(at=> const _: fn() = || {
            fn is_text<C: velvet::Textual>() {}
            is_text::<#ty>();
        };));
    }
    out
}
