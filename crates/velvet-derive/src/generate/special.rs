//! What only some records can do.

use super::{Parts, local};
use proc_macro2::TokenStream;
use quote::{quote, quote_spanned};
use syn::spanned::Spanned;

/// The traits of those that have an own key, are searched, shared, or a name and a value.
pub(super) fn traits(parts: &Parts<'_>) -> TokenStream {
    let Parts { record, stored, own_key, .. } = parts;
    let ident = &record.ident;
    let (keyed, named) = (keyed(parts), named_value(parts));
    let searchable = stored.iter().any(|f| f.searchable.is_some());
    let searchable = searchable.then(|| quote!(#[automatically_derived] impl velvet::Searchable for #ident {}));
    let shared = record.shared.filter(|_| own_key.is_some());
    let shared = shared.map(|_| quote!(#[automatically_derived] impl velvet::Shared for #ident {}));
    quote!(#keyed #named #searchable #shared)
}

fn keyed(parts: &Parts<'_>) -> Option<TokenStream> {
    let position = parts.own_key?;
    let (ident, ty, field) = (&parts.record.ident, &parts.types[position], &parts.stored[position].ident);
    Some(quote! {
        #[automatically_derived]
        impl velvet::Keyed for #ident {
            type OwnKey = #ty;
            const OWN_KEY_POSITION: usize = #position;

            fn own_key(&self) -> &<#ty as velvet::ColumnType>::Value {
                &self.#field
            }
        }
    })
}

/// What a record that is a name and a value can do.
fn named_value(parts: &Parts<'_>) -> Option<TokenStream> {
    let Parts { record, stored, types, .. } = parts;
    record.named?;
    let at = |name: &str| stored.iter().position(|f| f.ident == name);
    let (name_at, at) = (at("name")?, at("value")?);
    let (ident, ty) = (&record.ident, &types[at]);
    let (source, value) = (local("source"), local("value"));
    let field = stored[at];
    let (field_name, place) = (&field.ident, field.ty.span());
    let name_field = &stored[name_at].ident;
    let take = quote_spanned!(place=> (&velvet::FieldOf::<#ty>::HERE).take(#source, 0));
    let take = parts.body(take);
    let made = parts.body(quote!(#ident { #name_field: name, #field_name: #value }));
    let unused = parts.unused();
    Some(quote! {
        #unused
        #[automatically_derived]
        impl velvet::NamedValue for #ident {
            type Value = #ty;
            const VALUE_POSITION: usize = #at;

            fn named(
                name: <<#ident as velvet::Keyed>::OwnKey as velvet::ColumnType>::Value,
                #value: <#ty as velvet::ColumnType>::Value,
            ) -> Self {
                #made
            }

            fn into_value(self) -> <#ty as velvet::ColumnType>::Value {
                self.#field_name
            }

            fn value_mut(&mut self) -> &mut <#ty as velvet::ColumnType>::Value {
                &mut self.#field_name
            }

            fn take_value<S: velvet::Source>(
                source: &mut S,
            ) -> Result<<#ty as velvet::ColumnType>::Value, velvet::Misfit> {
                #take
            }

            fn named_statements() -> &'static velvet::NamedStatements {
                static STATEMENTS: ::std::sync::LazyLock<velvet::NamedStatements> = ::std::sync::LazyLock::new(|| {
                    velvet::NamedStatements::of::<#ident>()
                });
                &STATEMENTS
            }
        }
    })
}
