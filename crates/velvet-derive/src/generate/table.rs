//! The table of a record: what is known of it before there is a value.

use super::Parts;
use super::columns::{made, seal};
use crate::model::{Field, Record, Rule, WasOrNew};
use proc_macro2::TokenStream;
use quote::{quote, quote_spanned};
use syn::spanned::Spanned;

/// The part of `impl Record` that says what the table is.
pub(super) fn of_record(parts: &Parts<'_>) -> TokenStream {
    let Parts { record, stored, columns, own_key, .. } = parts;
    let ident = &record.ident;
    let table = &record.table.text;
    let names = stored.iter().map(|f| &f.column.text);
    let hints = hints(record);
    let weights = searched(parts).into_iter().map(|(name, weight)| quote!((#name, #weight)));
    let lists = lists(parts);
    let own_key = own_key.map_or(quote!(None), |at| quote!(Some(#at)));
    let (made, structure) = (made(parts), parts.body(structure(parts)));
    quote! {
        const TABLE: &'static str = #table;
        const COLUMNS: &'static [&'static str] = &[#(#names),*];
        const HINTS: velvet::Hints = #hints;
        const SEARCHABLE: &'static [(&'static str, f64)] = &[#(#weights),*];
        type Columns = #columns;

        #lists

        fn columns() -> #columns {
            #made
        }

        fn table() -> Result<velvet::Table, velvet::Misfit> {
            #structure
        }

        fn statements() -> &'static velvet::RecordStatements {
            static STATEMENTS: ::std::sync::LazyLock<velvet::RecordStatements> = ::std::sync::LazyLock::new(|| {
                velvet::RecordStatements::new(<#ident as velvet::Record>::LAYOUT, #own_key)
            });
            &STATEMENTS
        }
    }
}

/// The columns whose words are searched, and how much each counts.
fn searched<'p>(parts: &'p Parts<'_>) -> Vec<(&'p String, f64)> {
    let weighted = |f: &&'p Field| f.searchable.map(|(_, weight)| (&f.column.text, weight));
    let mut searched: Vec<(&String, f64)> = parts.stored.iter().filter_map(weighted).collect();
    searched.sort_by_key(|(name, _)| *name);
    searched
}

/// The columns that are compared, or written, in a way of their own.
fn lists(parts: &Parts<'_>) -> TokenStream {
    let Parts { record, stored, own_key, .. } = parts;
    let ignores_case: Vec<usize> = (0..stored.len()).filter(|at| stored[*at].ignore_case.is_some()).collect();
    let ignores_case =
        (!ignores_case.is_empty()).then(|| quote!(const IGNORES_CASE: &'static [usize] = &[#(#ignores_case),*];));
    let seals: Vec<TokenStream> =
        stored.iter().enumerate().filter_map(|(at, f)| seal(record, f).map(|label| quote!((#at, #label)))).collect();
    let sealed = (!seals.is_empty()).then(|| quote!(const SEALED: &'static [(usize, &'static str)] = &[#(#seals),*];));
    let sealed_name = own_key.filter(|_| stored.len() == 2 && seals.len() == 1);
    let sealed_name = sealed_name.map(|at| quote!(const SEALED_NAME: Option<usize> = Some(#at);));
    quote!(#ignores_case #sealed #sealed_name)
}

/// The table as data.
fn structure(parts: &Parts<'_>) -> TokenStream {
    let Parts { record, stored, types, own_key, .. } = parts;
    let table = &record.table.text;
    let columns = stored.iter().zip(types).enumerate().map(|(at, (f, ty))| column(record, at, f, ty));
    let own_key = own_key.map_or(quote!(None), |at| {
        let name = &stored[at].column.text;
        quote!(Some(::std::string::String::from(#name)))
    });
    let indexes = indexes(record);
    let searched = searched(parts);
    let searchable = (!searched.is_empty()).then(|| {
        let names = searched.iter().map(|(name, _)| quote!(::std::string::String::from(#name)));
        quote!(.searchable([#(#names),*]))
    });
    let shared = record.shared.map(|_| quote!(.shared()));
    quote! {
        Ok(velvet::Table::new(
            #table,
            ::std::vec![#(#columns),*],
            #own_key,
            ::std::vec![#(#indexes),*],
        )#searchable #shared)
    }
}

fn column(record: &Record, at: usize, field: &Field, ty: &TokenStream) -> TokenStream {
    let name = &field.column.text;
    let default = match &field.default {
        None => quote!(None),
        Some((word, None)) => quote_spanned! {*word=>
            Some(velvet::stored_value::<#ty>(&<<#ty as velvet::ColumnType>::Value as ::core::default::Default>::default())
                .map_err(|misfit| misfit.at(#at))?)
        },
        Some((_, Some(value))) => quote_spanned! {value.span()=>
            Some(velvet::stored_arg::<#ty>(#value).map_err(|misfit| misfit.at(#at))?)
        },
    };
    let rule = match field.link {
        None => quote!(None),
        Some((_, Rule::Refuse)) => quote!(Some(velvet::OnDelete::Refuse)),
        Some((_, Rule::Clear)) => quote!(Some(velvet::OnDelete::Clear)),
        Some((_, Rule::Remove)) => quote!(Some(velvet::OnDelete::Remove)),
    };
    let private = field.private.map(|_| quote!(.private()));
    let ignore_case = field.ignore_case.map(|_| quote!(.ignore_case()));
    let sealed = seal(record, field).map(|label| quote!(.sealed_as(#label)));
    let unlinked = field.remove_unlinked.map(|_| quote!(.remove_unlinked()));
    quote_spanned!(field.ty.span()=> (&velvet::FieldOf::<#ty>::HERE).column(#name, #default, #rule)#private #ignore_case #unlinked #sealed)
}

/// Where the table and its columns come from.
fn hints(record: &Record) -> TokenStream {
    let origin = |origin: Option<&WasOrNew>| match origin {
        None => quote!(None),
        Some(WasOrNew::New) => quote!(Some(velvet::Origin::New)),
        Some(WasOrNew::Was(name)) => quote!(Some(velvet::Origin::Was(#name))),
    };
    let table = origin(record.origin.as_ref().map(|(_, origin)| origin));
    let columns = record.stored().filter(|f| f.origin.is_some() || f.fill.is_some()).map(|f| {
        let column = &f.column.text;
        let origin = origin(f.origin.as_ref().map(|(_, origin)| origin));
        let fill = f.fill.as_ref().map_or(quote!(None), |(_, fill)| quote!(Some(#fill)));
        quote!(velvet::Hint { column: #column, origin: #origin, fill: #fill })
    });
    quote!(velvet::Hints { table: #table, columns: &[#(#columns),*] })
}

fn indexes(record: &Record) -> Vec<TokenStream> {
    let index = |columns: Vec<&String>, unique: bool| quote!(velvet::Index { columns: ::std::vec![#(::std::string::String::from(#columns)),*], unique: #unique });
    let of_field = |f: &Field| match (f.own_key.or(f.unique), f.indexed) {
        (Some(_), _) => Some(true),
        (None, Some(_)) => Some(false),
        (None, None) => None,
    };
    let single = record.stored().filter_map(|f| of_field(f).map(|unique| index(vec![&f.column.text], unique)));
    let grouped = record.groups.iter().map(|(group, unique)| {
        let columns = group.iter().filter_map(|i| record.stored().find(|f| f.ident == *i)).map(|f| &f.column.text);
        index(columns.collect(), *unique)
    });
    single.chain(grouped).collect()
}
