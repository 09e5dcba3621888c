//! What a data file says of itself, so that the catalog can be made anew from the files alone.

use std::collections::BTreeMap;
use std::fs::File;
use std::path::Path;

use parquet::file::reader::{FileReader, SerializedFileReader};
use serde::{Deserialize, Serialize};

use super::catalog;
use super::segment::ABOUT;
use super::sql::now;
use super::{Shelf, editions, records};
use crate::model::{Clock, Field, Micros, OwnValues, Provenance, Scale, SeriesName};
use crate::{Error, Result};

/// Where an edition comes from and what its columns are.
pub struct Origin {
    /// What makes it, and what that reads.
    pub provenance: Provenance,
    /// The clock its times were written in; none for afloat.
    pub clock: Option<Clock>,
    /// The columns of the rows.
    pub fields: Vec<Field>,
    /// Decimals of prices and volumes.
    pub scale: Scale,
}

/// The text under [`ABOUT`] in the metadata of a data file, as JSON.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct FileAbout {
    /// The id of the shelf that wrote it.
    pub shelf: String,
    /// The series, bars that were built marked so.
    pub series: SeriesName,
    /// The edition it was written for, and that edition's number within the series.
    pub edition: i64,
    /// The edition's number within its series.
    pub number: i64,
    /// When it was written, UTC microseconds.
    pub made: Micros,
    /// The clock the times were written in; none while afloat.
    pub clock: Option<Clock>,
    /// Decimals of its prices.
    pub price_decimals: u8,
    /// Decimals of its volumes.
    pub volume_decimals: u8,
    /// What the edition was made from.
    pub provenance: Provenance,
    /// True where the provenance was known in full, outcome included.
    pub is_whole: bool,
    /// Own values of the instrument and of those it is like.
    pub instruments: BTreeMap<String, OwnValues>,
}

impl FileAbout {
    /// What files of a new edition say.
    pub(super) fn of(shelf: &Shelf, name: &SeriesName, edition: i64, origin: &Origin) -> Result<FileAbout> {
        let mut instruments = BTreeMap::new();
        let mut above = Some(name.instrument.clone());
        while let Some(name) = above.take().filter(|n| !instruments.contains_key(n)) {
            let Some(own) = records::own_values(&shelf.db, &name)? else { break };
            above = own.like.clone();
            instruments.insert(name, own);
        }
        Ok(FileAbout {
            shelf: catalog::shelf_id(&shelf.db)?,
            series: name.clone(),
            edition,
            number: editions::next_number(&shelf.db, name, name.built)?,
            made: now(),
            clock: origin.clock.clone(),
            price_decimals: origin.scale.price,
            volume_decimals: origin.scale.volume,
            provenance: origin.provenance.clone(),
            is_whole: false,
            instruments,
        })
    }

    /// As text, with what is known of the provenance by now.
    pub fn told(&self, provenance: &Provenance, is_whole: bool) -> String {
        let about = FileAbout { provenance: provenance.clone(), is_whole, ..self.clone() };
        serde_json::to_string(&about).unwrap_or_default()
    }

    /// Decimals of its prices and volumes.
    pub fn scale(&self) -> Scale {
        Scale { price: self.price_decimals, volume: self.volume_decimals }
    }

    /// Reads what a file says of itself; none where it says nothing, as files of earlier versions.
    ///
    /// # Errors
    /// Where it is no Parquet file, or what it says cannot be understood.
    pub fn read(path: &Path) -> Result<Option<FileAbout>> {
        let file = File::open(path).map_err(|e| Error::io("Cannot read", path, &e))?;
        let damaged = |why: String| {
            Error::storage(format!("{} is damaged and cannot be read ({why}).", path.display()))
        };
        let reader = SerializedFileReader::new(file).map_err(|e| damaged(e.to_string()))?;
        let said = reader.metadata().file_metadata().key_value_metadata();
        let text = said.into_iter().flatten().find(|kv| kv.key == ABOUT).and_then(|kv| kv.value.as_ref());
        text.map(|t| serde_json::from_str(t).map_err(|e| damaged(e.to_string()))).transpose()
    }
}
