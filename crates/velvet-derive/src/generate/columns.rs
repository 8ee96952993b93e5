//! The columns of a record, as conditions and orders name them, and the column type of each field.

use super::Parts;
use crate::model::{Field, Record};
use proc_macro2::TokenStream;
use quote::{quote, quote_spanned};
use syn::spanned::Spanned;

/// The type of the record's columns.
pub(super) fn columns_type(parts: &Parts<'_>) -> TokenStream {
    let Parts { columns, stored, .. } = parts;
    let Record { ident, vis, .. } = parts.record;
    let fields = stored.iter().map(|f| {
        let (name, vis, ty) = (&f.ident, &f.vis, plain_type(f));
        let kind = if f.sealed.is_some() { quote!(SealedColumn) } else { quote!(Column) };
        quote!(#vis #name: velvet::#kind<#ident, #ty>)
    });
    quote! {
        #[allow(dead_code)]
        #[derive(Clone, Copy)]
        #vis struct #columns {
            #(#fields,)*
        }

        #[allow(dead_code)]
        impl #columns {
            /// The column of the record's key.
            #vis fn key(self) -> velvet::Column<#ident, velvet::Key<#ident>> {
                velvet::key_column()
            }

            /// The records of another type that link to this one, by the link that the closure names.
            #vis fn linked_from<D: velvet::Record>(
                self,
                link: impl velvet::LinkOf<D, #ident>,
            ) -> velvet::LinkedFrom<#ident, D> {
                velvet::LinkedFrom::by(link)
            }
        }
    }
}

/// A value of it.
pub(super) fn made(parts: &Parts<'_>) -> TokenStream {
    let Parts { columns, stored, .. } = parts;
    let table = &parts.record.table.text;
    let fields = stored.iter().enumerate().map(|(at, f)| {
        let (ident, name) = (&f.ident, &f.column.text);
        let ignoring_case = f.ignore_case.map(|_| quote!(.ignoring_case()));
        match seal(parts.record, f) {
            Some(label) => quote!(#ident: velvet::SealedColumn::named(#table, #name, #at, #label) #ignoring_case),
            None => quote!(#ident: velvet::Column::named(#table, #name, #at) #ignoring_case),
        }
    });
    quote!(#columns { #(#fields,)* })
}

/// The label under which a field's values are sealed, where they are.
pub(super) fn seal(record: &Record, field: &Field) -> Option<String> {
    let (_, label) = field.sealed.as_ref()?;
    Some(label.clone().unwrap_or_else(|| format!("{}.{}", record.table.text, field.column.text)))
}

/// The column type of a field.
pub(crate) fn column_type(field: &Field) -> TokenStream {
    let plain = plain_type(field);
    match field.sealed {
        None => plain,
        Some(_) => quote_spanned!(field.ty.span()=> velvet::Sealed<#plain>),
    }
}

/// The column type of a field, where it is not sealed: its own type, or that of JSON text.
pub(crate) fn plain_type(field: &Field) -> TokenStream {
    let ty = &field.ty;
    let stored = match (field.json, field.inside_option()) {
        (None, _) => quote!(#ty),
        (Some(_), None) => quote_spanned!(ty.span()=> velvet::Json<#ty>),
        (Some(_), Some(inner)) => quote_spanned!(ty.span()=> ::core::option::Option<velvet::Json<#inner>>),
    };
    match field.fallback {
        None => stored,
        Some(_) => quote_spanned!(ty.span()=> velvet::OrDefault<#stored>),
    }
}
