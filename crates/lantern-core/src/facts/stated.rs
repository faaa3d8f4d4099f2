//! From one list of facts: the values, the texts that they are written as, and the ways between them.

/// Declares what can be stated of something.
///
/// `values` and `texts` name the two structures, with the members of their own that the list has no part in. Each line
/// of `stated` is `name: Type as Notation from "field"`: the value's name, which is its key where it is written; its
/// type; how it is written; and the field of a family's reader that tells it, where there is one. `seldom` has lines of the same kind
/// and names a structure that holds their values: releases that say the same there share it, and its values are read and written as
/// if they stood in the first.
macro_rules! stated {
    (
        $(#[$values:meta])*
        values $Values:ident { $($(#[$own_value:meta])* $own_value_name:ident: $OwnValue:ty,)* }
        $(#[$texts:meta])*
        texts $Texts:ident { $($(#[$own_text:meta])* $own_text_name:ident: $OwnText:ty,)* }
        stated {
            $($(#[$doc:meta])* $name:ident: $Type:ty as $Notation:ident $(from $field:literal)?,)*
        }
        $(
            $(#[$few:meta])*
            seldom $Seldom:ident {
                $($(#[$few_doc:meta])* $few_name:ident: $FewType:ty as $FewNotation:ident $(from $few_field:literal)?,)*
            }
        )?
    ) => {
        $(#[$values])*
        pub struct $Values {
            $($(#[$own_value])* pub $own_value_name: $OwnValue,)*
            $($(#[$doc])* pub $name: $Type,)*
            $(pub(crate) seldom: Arc<$Seldom>,)?
        }

        $(
            $(#[$few])*
            #[derive(Debug, Clone, Default, PartialEq, Eq)]
            pub struct $Seldom {
                $($(#[$few_doc])* pub $few_name: $FewType,)*
            }

            impl Deref for $Values {
                type Target = $Seldom;

                fn deref(&self) -> &$Seldom {
                    &self.seldom
                }
            }

            impl DerefMut for $Values {
                fn deref_mut(&mut self) -> &mut $Seldom {
                    Arc::make_mut(&mut self.seldom)
                }
            }
        )?

        $(#[$texts])*
        pub struct $Texts {
            $($(#[$own_text])* pub(crate) $own_text_name: $OwnText,)*
            $(
                $(#[$doc])*
                #[serde(skip_serializing_if = "is_unstated")]
                $name: <$Notation as Written<$Type>>::Text,
            )*
            $($(
                $(#[$few_doc])*
                #[serde(skip_serializing_if = "is_unstated")]
                $few_name: <$FewNotation as Written<$FewType>>::Text,
            )*)?
        }

        impl $Values {
            fn unstated($($own_value_name: $OwnValue,)*) -> $Values {
                $Values {
                    $($own_value_name,)*
                    $($name: <$Type>::default(),)*
                    $(seldom: $Seldom::nothing(),)?
                }
            }

            /// The fields of readers that tell of it, and whether each is a list.
            const FIELDS: &'static [(&'static str, bool)] =
                &[
                    $($(($field, <$Notation as Gathered<$Type>>::IS_LIST),)?)*
                    $($($(($few_field, <$FewNotation as Gathered<$FewType>>::IS_LIST),)?)*)?
                ];

            fn read(&mut self, texts: $Texts, reading: &mut Reading<'_>) -> Result<(), Misread> {
                $(self.$name = <$Notation as Written<$Type>>::read(texts.$name, reading)?;)*
                $(
                    let seldom = $Seldom {
                        $($few_name: <$FewNotation as Written<$FewType>>::read(texts.$few_name, reading)?,)*
                    };
                    self.seldom = reading.seldom(seldom);
                )?
                Ok(())
            }

            fn write(&self, texts: &mut $Texts) {
                $(texts.$name = <$Notation as Written<$Type>>::write(&self.$name);)*
                $($(texts.$few_name = <$FewNotation as Written<$FewType>>::write(&self.$few_name);)*)?
            }

            fn gather(&mut self, source: &dyn Source, reading: &mut Reading<'_>) -> Result<(), Misread> {
                $($(
                    let text = <$Notation as Gathered<$Type>>::gather(source, $field)?;
                    self.$name = <$Notation as Written<$Type>>::read(text, reading)?;
                )?)*
                $(
                    let mut seldom = $Seldom::default();
                    $($(
                        let text = <$FewNotation as Gathered<$FewType>>::gather(source, $few_field)?;
                        seldom.$few_name = <$FewNotation as Written<$FewType>>::read(text, reading)?;
                    )?)*
                    self.seldom = reading.seldom(seldom);
                )?
                Ok(())
            }
        }

        impl $Texts {
            fn stated(&self) -> Vec<(&'static str, String)> {
                let mut stated = Vec::new();
                $(
                    if !is_unstated(&self.$name) {
                        let shown = <$Notation as Written<$Type>>::shown(&self.$name);
                        stated.push((stringify!($name), shown));
                    }
                )*
                $($(
                    if !is_unstated(&self.$few_name) {
                        let shown = <$FewNotation as Written<$FewType>>::shown(&self.$few_name);
                        stated.push((stringify!($few_name), shown));
                    }
                )*)?
                stated
            }
        }
    };
}

pub(super) use stated;
