//! From one list of facts: the values, the texts that they are written as, and the ways between them.

/// Declares what can be stated of something.
///
/// `values` and `texts` name the two structures, with the members of their own that the list has no part in; `keys` names what is written
/// where they are. Each line
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
        keys $Key:ident
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

        /// The keys under which it is written.
        #[derive(Clone, Copy, Deserialize)]
        #[serde(field_identifier)]
        #[allow(non_camel_case_types)] // As they are written.
        enum $Key {
            $($own_text_name,)*
            $($name,)*
            $($($few_name,)*)?
        }

        impl $Key {
            const NAMES: &'static [&'static str] = &[
                $(stringify!($own_text_name),)*
                $(stringify!($name),)*
                $($(stringify!($few_name),)*)?
            ];
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

            /// Reads it where it is written; `own` reads what stands under a key that the list has no part in, and says so.
            ///
            /// All is read to its end, whatever makes no sense: the first of that is told.
            fn take<'de, A: MapAccess<'de>>(
                &mut self,
                map: &mut A,
                reading: &mut Reading<'_>,
                mut own: impl FnMut($Key, &mut A, &mut Reading<'_>) -> Result<bool, A::Error>,
            ) -> Result<Result<(), Misread>, A::Error> {
                let mut met = 0_u64;
                let mut faults = Vec::new();
                $(let mut seldom: Option<$Seldom> = None;)?
                while let Some(key) = map.next_key::<$Key>()? {
                    if met & (1 << key as u32) != 0 {
                        return Err(A::Error::duplicate_field($Key::NAMES[key as usize]));
                    }
                    met |= 1 << key as u32;
                    if own(key, map, reading)? {
                        continue;
                    }
                    match key {
                        $($Key::$own_text_name => {})*
                        $($Key::$name => {
                            match map.next_value_seed(Taking::<$Notation, $Type>::by(reading))? {
                                Ok(value) => self.$name = value,
                                Err(misread) => faults.push(misread),
                            }
                        })*
                        $($($Key::$few_name => {
                            match map.next_value_seed(Taking::<$FewNotation, $FewType>::by(reading))? {
                                Ok(value) => seldom.get_or_insert_default().$few_name = value,
                                Err(misread) => faults.push(misread),
                            }
                        })*)?
                    }
                }
                $(
                    let seldom: Option<$Seldom> = seldom;
                    if let Some(seldom) = seldom {
                        self.seldom = reading.seldom(seldom);
                    }
                )?
                Ok(faults.into_iter().next().map_or(Ok(()), Err))
            }

            fn write(&self, texts: &mut $Texts) {
                $(texts.$name = <$Notation as Written<$Type>>::write(&self.$name);)*
                $($(texts.$few_name = <$FewNotation as Written<$FewType>>::write(&self.$few_name);)*)?
            }

            fn gather(&mut self, source: &dyn Source, reading: &mut Reading<'_>) -> Result<(), Misread> {
                $($(
                    self.$name = <$Notation as Gathered<$Type>>::gather(source, $field, reading)?;
                )?)*
                $(
                    let mut seldom = $Seldom::default();
                    $($(
                        seldom.$few_name = <$FewNotation as Gathered<$FewType>>::gather(source, $few_field, reading)?;
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
