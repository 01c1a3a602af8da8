//! Pictures that belong to a return: what is a picture, and how many and how large they may be.
//!
//! What a file is says its content, never its name. *Source: the signatures are those of the formats' own specifications
//! (ISO/IEC 10918-1, ISO/IEC 15948, RFC 9649), from memory; the limits are the project's own.*
//!
//! ```
//! use till_core::returns::{Pictures, check_picture};
//! let none = Pictures::default();
//! let refused = check_picture("delivery.png", b"From: the carrier", none).unwrap_err();
//! assert!(refused.starts_with("delivery.png is not a picture."));
//! ```

use imagesize::ImageType;

/// The largest picture, in bytes.
pub const LARGEST_PICTURE: usize = 8 * 1024 * 1024;

/// How many pictures one return has at most.
pub const MOST_PICTURES: usize = 24;

/// How many bytes the pictures of one return have at most.
pub const ALL_PICTURES: usize = 64 * 1024 * 1024;

/// How many points a picture has at most: more is no photograph, and opening it could take all memory there is.
const MOST_POINTS: usize = 120_000_000;

/// The pictures a return has.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Pictures {
    /// How many.
    pub count: usize,
    /// How large they are together, in bytes.
    pub size: usize,
}

/// How a picture is kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PictureFormat {
    /// As cameras make them.
    Jpeg,
    /// As screens are taken.
    Png,
    /// As browsers make them.
    Webp,
}

impl PictureFormat {
    /// Every format.
    pub const ALL: [Self; 3] = [Self::Jpeg, Self::Png, Self::Webp];

    /// The word kept in the database.
    pub const fn word(self) -> &'static str {
        match self {
            Self::Jpeg => "jpeg",
            Self::Png => "png",
            Self::Webp => "webp",
        }
    }

    /// The format with this word.
    pub fn of(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|format| format.word() == word)
    }

    /// What a browser is told.
    pub const fn media_type(self) -> &'static str {
        match self {
            Self::Jpeg => "image/jpeg",
            Self::Png => "image/png",
            Self::Webp => "image/webp",
        }
    }
}

/// A picture that may be kept.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Picture {
    /// Its name, without a path.
    pub name: String,
    /// Its format, as its content says.
    pub format: PictureFormat,
    /// How wide, in points.
    pub width: usize,
    /// How high, in points.
    pub height: usize,
}

/// Whether a file is a picture that may be kept with a return.
///
/// # Errors
/// A sentence that says why not, and what to do.
pub fn check_picture(name: &str, content: &[u8], there: Pictures) -> Result<Picture, String> {
    let name = plain_name(name);
    if content.is_empty() {
        return Err(format!("{name} is empty. Choose the picture again."));
    }
    if content.len() > LARGEST_PICTURE {
        let limit = LARGEST_PICTURE / 1024 / 1024;
        return Err(format!("{name} is larger than {limit} MB. Make it smaller, then add it."));
    }
    let not_one = || format!("{name} is not a picture. Choose a JPEG, PNG or WebP file.");
    let format = match imagesize::image_type(content) {
        Ok(ImageType::Jpeg) => PictureFormat::Jpeg,
        Ok(ImageType::Png) => PictureFormat::Png,
        Ok(ImageType::Webp) => PictureFormat::Webp,
        _ => return Err(not_one()),
    };
    if !is_whole(format, content) {
        return Err(format!("{name} breaks off in the middle. Copy it from the camera again."));
    }
    let size = imagesize::blob_size(content).map_err(|_| not_one())?;
    if size.width == 0 || size.height == 0 {
        return Err(not_one());
    }
    if size.width.saturating_mul(size.height) > MOST_POINTS {
        return Err(format!("{name} has {} × {} points. Make it smaller, then add it.", size.width, size.height));
    }
    if there.count >= MOST_PICTURES {
        return Err(format!("A return has at most {MOST_PICTURES} pictures. Remove one first."));
    }
    if there.size + content.len() > ALL_PICTURES {
        let limit = ALL_PICTURES / 1024 / 1024;
        return Err(format!("The pictures of a return come to at most {limit} MB together. Remove one first."));
    }
    Ok(Picture { name, format, width: size.width, height: size.height })
}

/// The last part of a path, without what no name needs, at most a hundred characters of it.
fn plain_name(name: &str) -> String {
    let last = name.rsplit(['/', '\\']).next().unwrap_or_default();
    let plain: String = last.chars().filter(|letter| !letter.is_control() && *letter != '"').take(100).collect();
    let plain = plain.trim();
    if plain.is_empty() { "picture".to_owned() } else { plain.to_owned() }
}

/// Whether a file ends where its format says that it ends.
fn is_whole(format: PictureFormat, content: &[u8]) -> bool {
    match format {
        // Cameras write more behind the end marker: previews, depth.
        PictureFormat::Jpeg => content.windows(2).skip(2).any(|two| two == [0xFF, 0xD9]),
        PictureFormat::Png => content.windows(8).any(|end| end == b"IEND\xAE\x42\x60\x82"),
        PictureFormat::Webp => content
            .get(4..8)
            .and_then(|length| length.try_into().ok())
            .is_some_and(|length| content.len() >= u32::from_le_bytes(length) as usize + 8),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// The smallest picture of each format: one point. Written by hand from the specifications, from memory.
    fn png() -> Vec<u8> {
        let mut file = b"\x89PNG\r\n\x1a\n\0\0\0\x0dIHDR\0\0\0\x01\0\0\0\x01\x08\0\0\0\0\x3a\x7e\x9b\x55".to_vec();
        file.extend(b"\0\0\0\x0aIDAT\x78\x9c\x63\x60\0\0\0\x02\0\x01\x48\xaf\xa4\x71\0\0\0\0IEND\xae\x42\x60\x82");
        file
    }

    fn jpeg(width: u16, height: u16) -> Vec<u8> {
        let mut file = vec![0xFF, 0xD8, 0xFF, 0xC0, 0, 11, 8];
        file.extend(height.to_be_bytes());
        file.extend(width.to_be_bytes());
        file.extend([1, 1, 0x11, 0, 0xFF, 0xD9]);
        file
    }

    #[test]
    fn a_picture_is_what_its_content_says() {
        let kept = check_picture("C:\\photos\\crate \"7\".txt", &png(), Pictures::default()).unwrap();
        assert_eq!((kept.name.as_str(), kept.format), ("crate 7.txt", PictureFormat::Png));
        assert_eq!((kept.width, kept.height), (1, 1));
        let kept = check_picture("a.jpg", &jpeg(640, 480), Pictures::default()).unwrap();
        assert_eq!((kept.format, kept.width, kept.height), (PictureFormat::Jpeg, 640, 480));
        let webp = b"RIFF\x12\0\0\0WEBPVP8L\x05\0\0\0\x2f\0\0\0\0\0";
        let kept = check_picture("", webp, Pictures::default()).unwrap();
        assert_eq!((kept.name.as_str(), kept.format, kept.width), ("picture", PictureFormat::Webp, 1));
        assert!(check_picture("a.webp", &webp[..24], Pictures::default()).unwrap_err().contains("breaks off"));
    }

    #[test]
    fn what_is_no_picture_is_refused_with_what_to_do() {
        let refuse = |content: &[u8], there| check_picture("a.png", content, there).unwrap_err();
        let none = Pictures::default();
        for other in
            [&b"%PDF-1.7"[..], b"<svg xmlns='http://www.w3.org/2000/svg'/>", b"GIF89a\x01\0\x01\0", b"PK\x03\x04"]
        {
            assert!(refuse(other, none).starts_with("a.png is not a picture."), "{other:?}");
        }
        assert!(refuse(b"", none).contains("empty"));
        let half = png();
        assert!(refuse(&half[..40], none).contains("breaks off"));
        assert!(refuse(&jpeg(40_000, 40_000), none).contains("40000 × 40000"));
        let mut large = png();
        large.resize(LARGEST_PICTURE + 1, 0);
        assert!(refuse(&large, none).contains("larger than 8 MB"));
        assert!(refuse(&png(), Pictures { count: MOST_PICTURES, size: 0 }).contains("at most 24"));
        assert!(refuse(&png(), Pictures { count: 1, size: ALL_PICTURES }).contains("64 MB"));
    }
}
