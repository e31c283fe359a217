//! The disks that are designed with, also when they are not bought yet.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::forecast::{CurveSource, Link, SpeedCurve, default_curve};
use crate::pool::{DiskSpec, Media, Price};
use crate::units::{ByteLength, SizeError};

/// A disk that is designed with.
#[derive(Clone, Debug, PartialEq, Serialize, JsonSchema)]
pub struct DesignDisk {
    /// Its name.
    #[serde(rename = "disk")]
    pub name: String,
    /// All its space.
    #[serde(rename = "size_bytes")]
    pub size: ByteLength,
    /// What it is made of.
    pub media: Media,
    /// How fast it is.
    #[serde(skip)]
    pub curve: SpeedCurve,
    /// What it costs, where that is known.
    pub price: Option<Price>,
    /// The controller or port group it shares with others.
    #[serde(skip)]
    pub link: Option<Link>,
}

/// Why a list of disks cannot be read.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum DiskListError {
    /// A size in it is none.
    #[error("{0}")]
    Size(#[from] SizeError),
    /// A count in it is none.
    #[error("`{0}` is no count: write \"2x6TB\"")]
    Count(String),
    /// A table cannot be read.
    #[error("the table of disks: {0}")]
    Table(String),
    /// There are too many.
    #[error("a design is made for at most 256 disks")]
    TooMany,
}

/// Most disks of one design.
const MOST: usize = 256;
/// No disk is smaller.
const SMALLEST: ByteLength = ByteLength::new(1_000_000);

impl DesignDisk {
    /// A disk on paper, with the speed that is assumed for its media.
    pub fn on_paper(name: impl Into<String>, size: ByteLength, media: Media) -> Self {
        Self { name: name.into(), size, media, curve: default_curve(Some(media)), price: None, link: None }
    }

    /// A disk of the pool file, if its size is known.
    pub fn of_spec(spec: &DiskSpec, size: Option<ByteLength>) -> Option<Self> {
        let media = spec.media.unwrap_or(Media::Hdd);
        let mut disk = Self::on_paper(&spec.name, size.or(spec.capacity)?, media);
        disk.price.clone_from(&spec.price);
        if let Some(curve) = given_curve(spec) {
            disk.curve = curve;
        }
        Some(disk)
    }
}

/// The curve through the rates that the pool file gives, at equal distances.
pub fn given_curve(spec: &DiskSpec) -> Option<SpeedCurve> {
    let last = spec.speed.len().saturating_sub(1).max(1) as f64;
    let points = spec.speed.iter().enumerate().map(|(i, rate)| (i as f64 / last, *rate));
    SpeedCurve::new(points, CurveSource::Given)
}

/// Reads "12TB,10TB,2x6TB,4TB". The disks are named after their media and number: "hdd-1".
///
/// # Errors
/// When a size or a count cannot be read.
pub fn parse_disks(text: &str, media: Media) -> Result<Vec<DesignDisk>, DiskListError> {
    let prefix = match media {
        Media::Hdd => "hdd",
        Media::Ssd => "ssd",
        Media::Nvme => "nvme",
    };
    let mut disks = Vec::new();
    for part in text.split(',').map(str::trim).filter(|p| !p.is_empty()) {
        let (count, size) = match part.split_once(['x', '×']) {
            Some((count, size)) => {
                let count = count.trim().parse::<usize>().ok().filter(|n| *n > 0);
                (count.ok_or_else(|| DiskListError::Count(part.into()))?, size)
            }
            None => (1, part),
        };
        let size = ByteLength::parse(size)?;
        // Nobody has a disk of 12 bytes: the unit was forgotten.
        if size < SMALLEST {
            return Err(SizeError::NotASize(part.into()).into());
        }
        if disks.len() + count > MOST {
            return Err(DiskListError::TooMany);
        }
        for _ in 0..count {
            disks.push(DesignDisk::on_paper(format!("{prefix}-{}", disks.len() + 1), size, media));
        }
    }
    Ok(disks)
}

/// One line of a table of disks; sizes and prices as in a pool file.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct Line {
    name: Option<String>,
    size: String,
    #[serde(default)]
    media: Option<Media>,
    #[serde(default)]
    price: Option<String>,
}

/// Reads a table of disks: a JSON list of objects, or CSV with a heading; `size` is needed, `name`, `media` and
/// `price` may be left out.
///
/// # Errors
/// When it is neither, or a line of it cannot be read; the message says which.
pub fn parse_disk_table(text: &str) -> Result<Vec<DesignDisk>, DiskListError> {
    let lines: Vec<Line> = if text.trim_start().starts_with('[') {
        serde_json::from_str(text).map_err(|e| DiskListError::Table(e.to_string()))?
    } else {
        let mut reader = csv::ReaderBuilder::new().trim(csv::Trim::All).from_reader(text.as_bytes());
        reader.deserialize().collect::<Result<_, _>>().map_err(|e| DiskListError::Table(e.to_string()))?
    };
    if lines.len() > MOST {
        return Err(DiskListError::TooMany);
    }
    let disk = |(number, line): (usize, Line)| {
        let name = line.name.filter(|n| !n.is_empty()).unwrap_or_else(|| format!("disk-{}", number + 1));
        let size = ByteLength::parse(&line.size)?;
        if size == ByteLength::ZERO {
            return Err(SizeError::NotASize(line.size).into());
        }
        let mut disk = DesignDisk::on_paper(name, size, line.media.unwrap_or(Media::Hdd));
        if let Some(text) = line.price.filter(|p| !p.is_empty()) {
            let price = Price::parse(&text);
            disk.price = Some(price.ok_or_else(|| DiskListError::Table(format!("`{text}` is no price")))?);
        }
        Ok(disk)
    };
    lines.into_iter().enumerate().map(disk).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_shopping_list_is_read() {
        let disks = parse_disks("12TB, 10 TB,2x6TB,4TB", Media::Hdd).unwrap();
        let sizes: Vec<String> = disks.iter().map(|d| d.size.to_string()).collect();
        assert_eq!(sizes, ["12.0 TB", "10.0 TB", "6.0 TB", "6.0 TB", "4.0 TB"]);
        assert_eq!(disks[3].name, "hdd-4");
        for wrong in ["12", "x6TB", "0x6TB", "6TX", "300x1TB", "0 TB"] {
            let read = parse_disks(wrong, Media::Hdd);
            assert!(read.is_err(), "{wrong}: {read:?}");
        }
    }

    #[test]
    fn tables_of_disks_are_read_as_json_and_csv() {
        let json =
            r#"[{"name": "alder", "size": "12 TB", "price": "249 EUR"}, {"size": "1TB", "media": "ssd"}]"#;
        let csv = "name,size,media,price\nalder, 12 TB,hdd,249 EUR\n,1TB,ssd,\n";
        for text in [json, csv] {
            let disks = parse_disk_table(text).unwrap();
            assert_eq!((disks[0].name.as_str(), disks[1].name.as_str()), ("alder", "disk-2"));
            assert_eq!((disks[1].media, disks[0].price.is_some()), (Media::Ssd, true));
        }
        for wrong in
            ["[{]", "[{\"size\": 3}]", "name\nalder\n", "size\nbig\n", "size,price\n1TB,cheap\n", "[1]"]
        {
            assert!(parse_disk_table(wrong).is_err(), "{wrong}");
        }
    }

    #[test]
    fn a_disk_of_the_pool_file_keeps_its_own_speed() {
        let rates = ["200 MB/s", "100 MB/s"].map(|r| crate::units::Rate::parse(r).unwrap());
        let spec = DiskSpec { speed: rates.into(), ..DiskSpec::default() };
        assert_eq!(DesignDisk::of_spec(&spec, None), None, "its size is not known");
        let disk = DesignDisk::of_spec(&spec, Some(ByteLength::new(1000))).unwrap();
        assert_eq!(disk.curve.at(0.5).per_second(), 150e6);
        assert_eq!(*disk.curve.source(), CurveSource::Given);
    }
}
