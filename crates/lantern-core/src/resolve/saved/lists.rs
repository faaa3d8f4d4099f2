//! The lists of a request, read as they come by.

use super::{RequestFault, Written, WrittenHeld, WrittenOffer};
use crate::artifact::Artifact;
use crate::facts::{OneRelease, ReadRelease, Reading};
use crate::json::{Apart, JsonFault};
use crate::offer::{Offer, Origin};
use crate::resolve::Held;
use crate::version::Notations;
use serde::de::{DeserializeSeed, Error, MapAccess, SeqAccess, Visitor};
use serde::{Deserialize, Deserializer};
use serde_json::value::RawValue;
use std::borrow::Cow;
use std::fmt;
use std::marker::PhantomData;
use std::sync::{Arc, LazyLock};

/// The lists of a request, read as they come by: all of them as they are written would take more room than all else.
pub(super) struct Lists<'t> {
    reading: Option<Reading<'static>>,
    held: Vec<Held>,
    offers: Vec<Offer>,
    /// Those that stand before it is known how versions are written.
    postponed: Vec<(List, &'t RawValue)>,
}

#[derive(Clone, Copy)]
enum List {
    Installed,
    Offers,
}

/// Few releases are written in less: there is room for all before the first is read, and none is moved when more come.
const BYTES_OF_A_RELEASE: usize = 150;

impl<'t> Lists<'t> {
    /// Those of a request that is written so.
    pub(super) fn within(text: &str) -> Lists<'t> {
        Lists {
            reading: None,
            held: Vec::new(),
            offers: Vec::with_capacity(text.len() / BYTES_OF_A_RELEASE),
            postponed: Vec::new(),
        }
    }

    /// Reads what stands under a key, where that is for here.
    fn take<A: MapAccess<'t>>(&mut self, key: &str, map: &mut A) -> Result<bool, A::Error> {
        let list = match key {
            "versions" => {
                self.reading = Some(Reading::by(Cow::Owned(map.next_value()?)));
                return Ok(true);
            }
            "installed" => List::Installed,
            "offers" => List::Offers,
            _ => return Ok(false),
        };
        match (list, &mut self.reading) {
            (_, None) => self.postponed.push((list, map.next_value()?)),
            (List::Installed, Some(reading)) => {
                map.next_value_seed(Each(reading, &mut self.held))?;
            }
            (List::Offers, Some(reading)) => {
                map.next_value_seed(Each(reading, &mut self.offers))?;
            }
        }
        Ok(true)
    }

    /// What was read, and what was postponed.
    pub(super) fn read(
        self,
        text: &str,
    ) -> Result<(Vec<Held>, Vec<Offer>, Notations), RequestFault> {
        let (mut held, mut offers) = (self.held, self.offers);
        let mut reading = self.reading.expect("versions have to be there");
        for (list, raw) in self.postponed {
            let mut json = serde_json::Deserializer::from_str(raw.get());
            let read = match list {
                List::Installed => Each(&mut reading, &mut held).deserialize(&mut json),
                List::Offers => Each(&mut reading, &mut offers).deserialize(&mut json),
            };
            read.map_err(|error| JsonFault::within(text, raw.get(), &error))?;
        }
        Ok((held, offers, reading.notations().clone()))
    }
}

/// A request whose lists are read apart.
pub(super) struct WithLists<'l, 't>(pub(super) &'l mut Lists<'t>);

impl<'t> DeserializeSeed<'t> for WithLists<'_, 't> {
    type Value = Written<(), (), ()>;

    fn deserialize<D: Deserializer<'t>>(self, deserializer: D) -> Result<Self::Value, D::Error> {
        deserializer.deserialize_map(self)
    }
}

impl<'t> Visitor<'t> for WithLists<'_, 't> {
    type Value = Written<(), (), ()>;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a request")
    }

    fn visit_map<A: MapAccess<'t>>(self, map: A) -> Result<Self::Value, A::Error> {
        Apart::read(map, |key, map| self.0.take(key, map))
    }
}

/// What a list of a request holds.
trait Entry: Sized {
    /// What is written of it besides its release.
    type Besides: for<'de> Deserialize<'de>;

    const CALLED: &str;

    fn of(release: ReadRelease, besides: Self::Besides) -> Self;
}

/// Where archives lie is not written.
static NOWHERE: LazyLock<Arc<Artifact>> = LazyLock::new(Arc::default);

impl Entry for Held {
    type Besides = WrittenHeld<()>;

    const CALLED: &str = "an installed component";

    fn of(release: ReadRelease, besides: WrittenHeld<()>) -> Held {
        Held {
            facts: release.facts,
            droppable: besides.droppable,
            off: besides.off,
            switched: besides.switched,
        }
    }
}

impl Entry for Offer {
    type Besides = WrittenOffer<()>;

    const CALLED: &str = "an offer";

    fn of(release: ReadRelease, besides: WrittenOffer<()>) -> Offer {
        Offer {
            facts: release.facts,
            artifact: NOWHERE.clone(),
            lays: None,
            supply: None,
            origin: match besides.by_hand {
                true => Origin::DropFolder,
                false => Origin::Catalogue,
            },
        }
    }
}

/// Reads each entry of a list.
struct Each<'r, 'e, E>(&'r mut Reading<'static>, &'e mut Vec<E>);

impl<'de, E: Entry> DeserializeSeed<'de> for Each<'_, '_, E> {
    type Value = ();

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<(), D::Error> {
        deserializer.deserialize_seq(self)
    }
}

impl<'de, E: Entry> Visitor<'de> for Each<'_, '_, E> {
    type Value = ();

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "a list, each of it {}", E::CALLED)
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut list: A) -> Result<(), A::Error> {
        while let Some(entry) = list.next_element_seed(OneEntry(self.0, PhantomData))? {
            self.1.push(entry);
        }
        Ok(())
    }
}

/// Reads an entry of a list.
struct OneEntry<'r, E>(&'r mut Reading<'static>, PhantomData<E>);

impl<'de, E: Entry> DeserializeSeed<'de> for OneEntry<'_, E> {
    type Value = E;

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<E, D::Error> {
        deserializer.deserialize_map(self)
    }
}

impl<'de, E: Entry> Visitor<'de> for OneEntry<'_, E> {
    type Value = E;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(E::CALLED)
    }

    fn visit_map<A: MapAccess<'de>>(self, map: A) -> Result<E, A::Error> {
        let mut release = None;
        let besides = Apart::read(map, |key, map: &mut A| {
            if key != "release" {
                return Ok(false);
            }
            release = Some(map.next_value_seed(OneRelease(self.0))?);
            Ok(true)
        })?;
        match release {
            Some(Ok(release)) => Ok(E::of(release, besides)),
            Some(Err(why)) => Err(A::Error::custom(why)),
            None => Err(A::Error::missing_field("release")),
        }
    }
}
