//! `#[derive(Excerpt)]`: a struct that rows are read as, by the names of their columns.

use crate::check;
use crate::generate::{are_columns, column_type, local, plain_type};
use crate::model::Excerpt;
use crate::problems::Problems;
use proc_macro2::TokenStream;
use quote::{quote, quote_spanned};
use syn::spanned::Spanned;
use syn::{DeriveInput, Ident};

/// All that the derive adds.
pub(crate) fn code(input: DeriveInput) -> syn::Result<TokenStream> {
    let mut problems = Problems::default();
    let excerpt = Excerpt::read(input, &mut problems);
    for field in excerpt.iter().flat_map(|e| &e.fields) {
        check::one_kind_of_nothing(field, &mut problems);
    }
    problems.into_result()?;
    Ok(excerpt.as_ref().map(generate).unwrap_or_default())
}

/// What stands in for an excerpt with problems.
pub(crate) fn standing_in(ident: &Ident) -> TokenStream {
    quote! {
        #[automatically_derived]
        impl velvet::Excerpt for #ident {
            fn wanted() -> ::std::vec::Vec<velvet::Wanted> { ::core::unreachable!() }
            fn read<S: velvet::Source>(source: &mut S) -> ::core::result::Result<Self, velvet::Misfit> {
                ::core::unreachable!()
            }
        }
    }
}

fn generate(excerpt: &Excerpt) -> TokenStream {
    let Excerpt { ident, fields, of, library } = excerpt;
    let typed: Vec<_> = fields.iter().map(|f| (f, f.ty.span(), column_type(f))).collect();
    let checks = are_columns(typed.iter().map(|(_, span, ty)| (*span, ty.clone())));
    let wanted = typed.iter().map(|(f, span, ty)| {
        let name = &f.column.text;
        quote_spanned!(*span=> (&velvet::FieldOf::<#ty>::HERE).wanted(#name))
    });
    let (source, take) = (local("source"), local("take"));
    let read = typed.iter().enumerate().map(|(at, (f, span, ty))| {
        let ident = &f.ident;
        quote_spanned!(*span=> #ident: (&velvet::FieldOf::<#ty>::HERE).take(#source, #at)?,)
    });
    let excerpt_of = of.as_ref().map(|of| {
        let picks = typed.iter().map(|(f, _, _)| {
            let ty = plain_type(f);
            let field = &f.ident;
            let mut columns = local("columns");
            columns.set_span(field.span().resolved_at(columns.span()));
            let pick = local(if f.sealed.is_some() { "pick_sealed_column" } else { "pick_column" });
            quote_spanned!(field.span()=> velvet::#pick::<#of, #ty>(#columns.#field, #take);)
        });
        quote! {
            #[automatically_derived]
            impl velvet::ExcerptOf<#of> for #ident {
                fn each(take: &mut dyn FnMut(velvet::Picked)) {
                    let columns = <#of as velvet::Record>::columns();
                    #(#picks)*
                }
            }
        }
    });
    quote! {
        const _: () = {
            use #library::__private as velvet;
            #checks

            #[automatically_derived]
            impl velvet::Excerpt for #ident {
                fn wanted() -> ::std::vec::Vec<velvet::Wanted> {
                    ::std::vec![#(#wanted),*]
                }

                fn read<S: velvet::Source>(source: &mut S) -> ::core::result::Result<Self, velvet::Misfit> {
                    ::core::result::Result::Ok(#ident { #(#read)* })
                }
            }

            #excerpt_of
        };
    }
}
