//! `#[derive(Choice)]`: an enumeration stored as text.

use crate::attributes::{self, Word};
use crate::names;
use crate::problems::Problems;
use proc_macro2::TokenStream;
use quote::quote;
use syn::{Data, DeriveInput, Fields, Ident, Path, Type};

/// A variant: its Rust name, its stored name, and whether it stands for unknown ones.
struct Variant {
    ident: Ident,
    name: String,
    fallback: bool,
    /// A fallback with a text inside keeps the unknown name.
    keeps_name: bool,
}

const ON_ENUMERATION: &[Word<Path>] =
    &[("library", |library, _, meta| attributes::library(meta).map(|path| *library = path))];

const ON_VARIANT: &[Word<Variant>] = &[
    ("name", |variant, _, meta| attributes::text(meta).map(|name| variant.name = name.value())),
    ("fallback", |variant, _, _| {
        variant.fallback = true;
        Ok(())
    }),
];

/// All that the derive adds.
pub(crate) fn code(input: DeriveInput) -> syn::Result<TokenStream> {
    let mut problems = Problems::default();
    let mut library: Path = syn::parse_quote!(::velvet_drawer);
    attributes::read(&input.attrs, "choice", ON_ENUMERATION, &mut problems, &mut library);
    if !input.generics.params.is_empty() {
        problems.at(&input.generics, "a choice has no lifetimes and no type parameters");
    }
    let Data::Enum(data) = input.data else {
        problems.at(&input.ident, "a choice is an enumeration; derive Record on a struct that is a table of its own");
        problems.into_result()?;
        return Ok(TokenStream::new());
    };
    let variants: Vec<Variant> = data.variants.iter().map(|v| variant(v, &mut problems)).collect();
    check(&input.ident, &variants, &mut problems);
    problems.into_result()?;
    Ok(generate(&input.ident, &variants, &library))
}

/// What stands in for a choice with problems.
pub(crate) fn standing_in(ident: &Ident) -> TokenStream {
    quote! {
        #[automatically_derived]
        impl velvet::Choice for #ident {
            const NAMES: &'static [&'static str] = &[];
            fn name(&self) -> &str { ::core::unreachable!() }
            fn from_name(name: &str) -> ::core::option::Option<Self> { ::core::unreachable!() }
        }

        velvet::choice_is_a_column!(#ident);
    }
}

fn variant(variant: &syn::Variant, problems: &mut Problems) -> Variant {
    let ident = variant.ident.clone();
    let mut model = Variant { name: names::stored(&ident), ident, fallback: false, keeps_name: false };
    attributes::read(&variant.attrs, "choice", ON_VARIANT, problems, &mut model);
    match &variant.fields {
        Fields::Unit => {}
        Fields::Unnamed(fields) if model.fallback && fields.unnamed.len() == 1 && is_string(&fields.unnamed[0].ty) => {
            model.keeps_name = true;
        }
        fields if model.fallback => {
            problems.at(fields, "a fallback is a plain variant, or holds the unknown name as one `String`")
        }
        fields => problems.at(
            fields,
            "a choice is stored as its name alone, so a variant can hold nothing; to store the contents too, put \
             #[record(json)] on the field that holds this enumeration",
        ),
    }
    model
}

fn is_string(ty: &Type) -> bool {
    matches!(ty, Type::Path(path) if path.path.segments.last().is_some_and(|s| s.ident == "String"))
}

fn check(ident: &Ident, variants: &[Variant], problems: &mut Problems) {
    if variants.iter().all(|v| v.keeps_name) {
        problems.at(ident, "a choice needs at least one variant with a name");
    }
    for (position, variant) in variants.iter().enumerate() {
        let before = &variants[..position];
        if variant.fallback && before.iter().any(|v| v.fallback) {
            problems.at(&variant.ident, "only one variant can be the fallback");
        }
        if variant.name.is_empty() {
            problems.at(&variant.ident, "a stored name cannot be empty");
        }
        if let Some(other) = before.iter().find(|v| v.name == variant.name) {
            let (name, other) = (&variant.name, &other.ident);
            problems.at(
                &variant.ident,
                format!("the name {name:?} is already that of `{other}`; two choices would be read as one"),
            );
        }
    }
}

fn generate(ident: &Ident, variants: &[Variant], library: &Path) -> TokenStream {
    let named: Vec<&Variant> = variants.iter().filter(|v| !v.keeps_name).collect();
    let idents: Vec<&Ident> = named.iter().map(|v| &v.ident).collect();
    let names: Vec<&String> = named.iter().map(|v| &v.name).collect();
    let keeper = variants.iter().find(|v| v.keeps_name).map(|v| &v.ident).into_iter();
    let unknown = variants.iter().find(|v| v.fallback).map_or(quote!(None), |v| {
        let ident = &v.ident;
        if v.keeps_name {
            quote!(Some(Self::#ident(::std::string::String::from(unknown))))
        } else {
            quote!(Some(Self::#ident))
        }
    });
    let rank = variants.iter().position(|v| v.fallback).map_or(quote!(None), |at| {
        let named_before = variants[..at].iter().filter(|v| !v.keeps_name).count() as u32;
        let rank = 2 * named_before + u32::from(!variants[at].keeps_name);
        quote!(Some(#rank))
    });
    let unknown_name = if variants.iter().any(|v| v.keeps_name) { quote!(unknown) } else { quote!(_) };
    quote! {
        const _: () = {
            use #library::__private as velvet;
            use ::core::option::Option::{self, None, Some};

            #[automatically_derived]
            impl velvet::Choice for #ident {
                const NAMES: &'static [&'static str] = &[#(#names),*];
                const FALLBACK_RANK: Option<u32> = #rank;

                fn name(&self) -> &str {
                    match self {
                        #(Self::#idents => #names,)*
                        #(Self::#keeper(name) => name,)*
                    }
                }

                fn from_name(name: &str) -> Option<Self> {
                    match name {
                        #(#names => Some(Self::#idents),)*
                        #unknown_name => #unknown,
                    }
                }
            }

            velvet::choice_is_a_column!(#ident);
        };
    }
}
