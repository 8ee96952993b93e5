//! The code of a record, from a model without problems.

mod checks;
mod columns;
mod rows;
mod special;
mod table;

pub(crate) use checks::are_columns;
pub(crate) use columns::{column_type, plain_type};

use crate::model::{Field, Record};
use proc_macro2::{Span, TokenStream};
use quote::{format_ident, quote};
use syn::Ident;
use syn::ext::IdentExt;

/// What is made of a record.
#[derive(Clone, Copy, PartialEq)]
pub(crate) enum Form {
    /// All that `#[derive(Record)]` adds.
    Whole,
    /// For one with problems, which are told: what keeps uses of the type from being further errors, and makes the compiler check the
    /// types of its fields, so that all that is wrong is said together.
    StandIn,
}

/// A record, with the lists and types that several parts of the code need.
struct Parts<'r> {
    record: &'r Record,
    form: Form,
    /// The fields that are stored, in the order of their columns.
    stored: Vec<&'r Field>,
    /// The column type of each.
    types: Vec<TokenStream>,
    /// The position of the own key among them.
    own_key: Option<usize>,
    /// The type of its columns.
    columns: Ident,
}

impl<'r> Parts<'r> {
    fn of(record: &'r Record, form: Form) -> Parts<'r> {
        let stored: Vec<&Field> = record.stored().collect();
        Parts {
            types: stored.iter().map(|f| column_type(f)).collect(),
            own_key: stored.iter().position(|f| f.own_key.is_some()),
            columns: format_ident!("{}Columns", record.ident.unraw()),
            record,
            form,
            stored,
        }
    }

    fn stands_in(&self) -> bool {
        self.form == Form::StandIn
    }

    /// The body of a function, which nobody calls of what stands in.
    fn body(&self, whole: TokenStream) -> TokenStream {
        if self.stands_in() { quote!(::core::unreachable!()) } else { whole }
    }

    /// What a function whose body is not used needs.
    fn unused(&self) -> Option<TokenStream> {
        self.stands_in().then(|| quote!(#[allow(unused_variables)]))
    }
}

/// What `#[derive(Record)]` adds.
pub(crate) fn record(record: &Record, form: Form) -> TokenStream {
    if form == Form::StandIn && record.generic {
        return TokenStream::new();
    }
    let parts = Parts::of(record, form);
    let Record { ident, library, .. } = record;
    let (checks, columns_type) = (checks::checks(&parts), columns::columns_type(&parts));
    let (table, rows, unused) = (table::of_record(&parts), rows::of_record(&parts), parts.unused());
    let special = special::traits(&parts);
    quote! {
        const _: () = {
            use #library::__private as velvet;
            use ::core::option::Option::{None, Some};
            use ::core::result::Result::{self, Ok};

            #checks
            #columns_type

            #unused
            #[automatically_derived]
            impl velvet::Record for #ident {
                #table
                #rows
            }

            #special
        };
    }
}

/// A name in what the derive writes itself, also beside words of the app's: those may come from elsewhere than the derive, out of a macro.
pub(crate) fn local(name: &str) -> Ident {
    Ident::new(name, Span::call_site())
}
