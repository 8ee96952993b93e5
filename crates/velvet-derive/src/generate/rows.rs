//! A record as a row, and a row as a record.

use super::{Parts, local};
use crate::model::Field;
use proc_macro2::TokenStream;
use quote::{quote, quote_spanned};
use syn::spanned::Spanned;

/// The part of `impl Record` that stores and loads values.
pub(super) fn of_record(parts: &Parts<'_>) -> TokenStream {
    let Parts { record, stored, types, .. } = parts;
    let ident = &record.ident;
    let (this, sink, source, value) = (local("self"), local("sink"), local("source"), local("value"));
    // Lines about a field stand at its type, so that what the compiler says of the type is said there.
    let each = |line: &dyn Fn(usize, &TokenStream, &Field) -> TokenStream| -> Vec<TokenStream> {
        stored.iter().zip(types).enumerate().map(|(at, (f, ty))| line(at, ty, f)).collect()
    };
    let store = each(&|at, ty, f| {
        let ident = &f.ident;
        quote_spanned!(f.ty.span()=> (&velvet::FieldOf::<#ty>::HERE).put(#sink, #at, &#this.#ident)?;)
    });
    let store_column = each(&|at, ty, f| {
        let ident = &f.ident;
        quote_spanned!(f.ty.span()=> #at => (&velvet::FieldOf::<#ty>::HERE).put(#sink, #at, &#this.#ident),)
    });
    let load = each(&|at, ty, f| {
        let ident = &f.ident;
        quote_spanned!(f.ty.span()=> #ident: (&velvet::FieldOf::<#ty>::HERE).take(#source, #at)?,)
    });
    let fits =
        each(&|at, ty, f| quote_spanned!(f.ty.span()=> #at => (&velvet::FieldOf::<#ty>::HERE).fits(#at, #value),));
    let skipped = record.fields.iter().filter(|f| f.skip.is_some()).map(|f| {
        let (ident, ty) = (&f.ident, &f.ty);
        quote_spanned!(ty.span()=> #ident: <#ty as ::core::default::Default>::default(),)
    });
    let store = parts.body(quote!(#(#store)* Ok(())));
    let store_column = parts.body(quote!(match column { #(#store_column)* _ => Ok(()) }));
    let load = parts.body(quote!(Ok(#ident { #(#load)* #(#skipped)* })));
    let fits = parts.body(quote!(match column { #(#fits)* _ => Ok(()) }));
    let stamps = stamps(parts);
    quote! {
        #stamps

        fn store<S: velvet::Sink>(&self, sink: &mut S) -> Result<(), velvet::Misfit> {
            #store
        }

        fn store_column<S: velvet::Sink>(&self, column: usize, sink: &mut S) -> Result<(), velvet::Misfit> {
            #store_column
        }

        fn load<S: velvet::Source>(source: &mut S) -> Result<Self, velvet::Misfit> {
            #load
        }

        fn fits(column: usize, value: velvet::ValueRef<'_>) -> Result<(), velvet::Misfit> {
            #fits
        }
    }
}

/// What fills the columns that hold the moment of a write.
fn stamps(parts: &Parts<'_>) -> Option<TokenStream> {
    let stamped: Vec<(usize, &Field)> =
        parts.stored.iter().copied().enumerate().filter(|(_, f)| f.created.is_some() || f.changed.is_some()).collect();
    if stamped.is_empty() || parts.stands_in() {
        return None;
    }
    let columns = stamped.iter().map(|(at, f)| {
        let when = if f.created.is_some() { quote!(Created) } else { quote!(Changed) };
        quote!(velvet::StampedColumn { at: #at, when: velvet::When::#when })
    });
    let (this, now) = (local("self"), local("now"));
    let filled = |f: &Field| {
        let (ident, ty) = (&f.ident, &f.ty);
        quote_spanned!(ty.span()=> #this.#ident = <#ty as velvet::Stamp>::at(#now);)
    };
    let changed: Vec<_> = stamped.iter().filter(|(_, f)| f.changed.is_some()).map(|(_, f)| filled(f)).collect();
    let created: Vec<&Field> = stamped.iter().filter(|(_, f)| f.created.is_some()).map(|(_, f)| *f).collect();
    let first = created.iter().map(|f| filled(f));
    let kept = created.iter().map(|f| {
        let ident = &f.ident;
        quote!(self.#ident = ::core::clone::Clone::clone(&other.#ident);)
    });
    Some(quote! {
        const STAMPED: &'static [velvet::StampedColumn] = &[#(#columns),*];

        fn stamp(&mut self, #now: velvet::Timestamp, when: velvet::When) {
            #(#changed)*
            if when == velvet::When::Created {
                #(#first)*
            }
        }

        #[allow(unused_variables, clippy::clone_on_copy)]
        fn keep_created(&mut self, other: &Self) {
            #(#kept)*
        }
    })
}
