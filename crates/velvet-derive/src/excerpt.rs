//! `#[derive(Excerpt)]`: a struct that rows are read as, by the names of their columns.

use crate::attributes;
use crate::generate;
use crate::model::inside_option;
use crate::names;
use crate::problems::Problems;
use proc_macro2::TokenStream;
use quote::{quote, quote_spanned};
use syn::spanned::Spanned;
use syn::{Data, DeriveInput, Fields, Ident, Path, Type};

/// A field: its column's name and type.
struct Field {
    ident: Ident,
    name: String,
    column_type: TokenStream,
    ty: Type,
}

/// All that the derive adds.
pub(crate) fn code(input: DeriveInput) -> syn::Result<TokenStream> {
    let mut problems = Problems::default();
    let mut library: Path = syn::parse_quote!(::velvet_drawer);
    let mut of: Option<Path> = None;
    attributes::each(&input.attrs, "excerpt", &["of", "library"], &mut problems, |word, meta| {
        match word {
            "of" => of = Some(meta.value()?.parse()?),
            _ => library = attributes::text(meta)?.parse()?,
        }
        Ok(())
    });
    if !input.generics.params.is_empty() {
        problems.at(&input.generics, "an excerpt owns what was read, so it has no lifetimes and no type parameters");
    }
    let named = match input.data {
        Data::Struct(data) => match data.fields {
            Fields::Named(fields) if !fields.named.is_empty() => Some(fields.named),
            Fields::Named(_) | Fields::Unnamed(_) | Fields::Unit => None,
        },
        Data::Enum(_) | Data::Union(_) => None,
    };
    let Some(named) = named else {
        problems.at(&input.ident, "an excerpt is a struct with named fields, because columns are found by their names");
        problems.into_result()?;
        return Ok(TokenStream::new());
    };
    let fields: Vec<Field> = named.into_iter().filter_map(|field| read(field, &mut problems)).collect();
    problems.into_result()?;
    Ok(generate(&input.ident, &fields, of.as_ref(), &library))
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

fn read(field: syn::Field, problems: &mut Problems) -> Option<Field> {
    let ident = field.ident?;
    let (mut name, mut json) = (names::stored(&ident), false);
    attributes::each(&field.attrs, "excerpt", &["name", "json"], problems, |word, meta| {
        match word {
            "name" => name = attributes::text(meta)?.value(),
            _ => json = true,
        }
        Ok(())
    });
    let ty = field.ty;
    let column_type = match (json, inside_option(&ty)) {
        (false, _) => quote!(#ty),
        (true, None) => quote_spanned!(ty.span()=> velvet::Json<#ty>),
        (true, Some(inner)) => quote_spanned!(ty.span()=> ::core::option::Option<velvet::Json<#inner>>),
    };
    Some(Field { ident, name, column_type, ty })
}

fn generate(ident: &Ident, fields: &[Field], of: Option<&Path>, library: &Path) -> TokenStream {
    let checks = generate::are_columns(fields.iter().map(|f| (f.ty.span(), f.column_type.clone())));
    let wanted = fields.iter().map(|f| {
        let (name, ty) = (&f.name, &f.column_type);
        quote_spanned!(f.ty.span()=> (&velvet::FieldOf::<#ty>::HERE).wanted(#name))
    });
    let read = fields.iter().enumerate().map(|(at, f)| {
        let (ident, ty) = (&f.ident, &f.column_type);
        quote_spanned!(f.ty.span()=> #ident: (&velvet::FieldOf::<#ty>::HERE).take(source, #at)?,)
    });
    let excerpt_of = of.map(|of| {
        let picks = fields.iter().map(|f| {
            let (field, ty) = (&f.ident, &f.column_type);
            quote_spanned!(field.span()=> velvet::pick_column::<#of, #ty>(columns.#field, take);)
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
