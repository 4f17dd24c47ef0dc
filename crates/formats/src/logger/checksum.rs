//! Sums at the end of lines, by which noise is known: simple sums, XOR, and the cyclic redundancy checks of the catalogue
//! that the `crc` crate carries.

use super::recipe::Checksum;
use crc::{Algorithm, Crc};

type Crc16 = (&'static str, &'static Algorithm<u16>);
type Crc32 = (&'static str, &'static Algorithm<u32>);

const CRC16: [Crc16; 9] = [
    ("crc16_modbus", &crc::CRC_16_MODBUS),
    ("crc16_arc", &crc::CRC_16_ARC),
    ("crc16_ccitt_false", &crc::CRC_16_IBM_3740),
    ("crc16_xmodem", &crc::CRC_16_XMODEM),
    ("crc16_kermit", &crc::CRC_16_KERMIT),
    ("crc16_x25", &crc::CRC_16_IBM_SDLC),
    ("crc16_usb", &crc::CRC_16_USB),
    ("crc16_dnp", &crc::CRC_16_DNP),
    ("crc16_aug_ccitt", &crc::CRC_16_SPI_FUJITSU),
];

const CRC32: [Crc32; 4] = [
    ("crc32", &crc::CRC_32_ISO_HDLC),
    ("crc32_bzip2", &crc::CRC_32_BZIP2),
    ("crc32_mpeg2", &crc::CRC_32_MPEG_2),
    ("crc32_castagnoli", &crc::CRC_32_ISCSI),
];

const SIMPLE: [&str; 4] = ["xor8", "sum8", "sum8_negative", "sum16"];

/// Every method by its name.
pub fn methods() -> impl Iterator<Item = &'static str> {
    SIMPLE.into_iter().chain(["crc8_maxim", "crc8"]).chain(CRC16.iter().map(|c| c.0)).chain(CRC32.iter().map(|c| c.0))
}

/// The sum of bytes by a method; `None` if there is no such method.
#[must_use]
pub fn sum(method: &str, bytes: &[u8]) -> Option<u32> {
    let total = bytes.iter().fold(0_u32, |a, b| a.wrapping_add(u32::from(*b)));
    Some(match method {
        "xor8" => bytes.iter().fold(0, |a, b| a ^ u32::from(*b)),
        "sum8" => total & 0xff,
        "sum8_negative" => total.wrapping_neg() & 0xff,
        "sum16" => total & 0xffff,
        "crc8" => u32::from(Crc::<u8>::new(&crc::CRC_8_SMBUS).checksum(bytes)),
        "crc8_maxim" => u32::from(Crc::<u8>::new(&crc::CRC_8_MAXIM_DOW).checksum(bytes)),
        _ => {
            if let Some((_, algorithm)) = CRC16.iter().find(|(name, _)| *name == method) {
                return Some(u32::from(Crc::<u16>::new(algorithm).checksum(bytes)));
            }
            let (_, algorithm) = CRC32.iter().find(|(name, _)| *name == method)?;
            Crc::<u32>::new(algorithm).checksum(bytes)
        }
    })
}

impl Checksum {
    /// The part of a line before its sum, if the sum agrees with it.
    #[must_use]
    pub fn checked<'l>(&self, line: &'l str, bytes_of: impl Fn(&str) -> Vec<u8>) -> Option<&'l str> {
        let line = line.trim_end();
        let (before, told) = line.rsplit_once(self.mark)?;
        let summed = if self.with_mark { &line[..before.len() + self.mark.len_utf8()] } else { before };
        let end = summed
            .char_indices()
            .rev()
            .nth(self.cut.checked_sub(1).unwrap_or(usize::MAX))
            .map_or(summed.len(), |(i, _)| i);
        let start = summed.char_indices().nth(self.skip).map_or(end, |(i, _)| i).min(end);
        let told = told.trim();
        let told =
            u32::from_str_radix(told.strip_prefix("0x").unwrap_or(told), if self.decimal { 10 } else { 16 }).ok()?;
        // The separator before the mark stays with neither.
        let kept = before.trim_end().trim_end_matches([',', ';', '|', '\t']);
        (sum(&self.method, &bytes_of(&summed[start..end]))? == told).then_some(kept)
    }
}

/// The way in which most lines carry their sum: hexadecimal or decimal digits behind a mark at the line's end. Every method is tried
/// over every likely part of the line; three lines in five must agree, and at least eight.
#[must_use]
pub fn found(lines: &[&str], bytes_of: impl Fn(&str) -> Vec<u8>) -> Option<Checksum> {
    let mark = |line: &str| {
        let line = line.trim_end();
        let digits = line.bytes().rev().take_while(u8::is_ascii_hexdigit).count();
        let mark = line[..line.len() - digits].chars().next_back()?;
        (2..=10).contains(&digits).then_some(mark).filter(|m| "*;,|\t #&=:x".contains(*m))
    };
    let mut counts = std::collections::BTreeMap::new();
    for m in lines.iter().filter_map(|l| mark(l)) {
        *counts.entry(m).or_insert(0_usize) += 1;
    }
    let (mark, n) = counts.into_iter().max_by_key(|(_, n)| *n)?;
    if n < 8 || n * 5 < lines.len() * 3 {
        return None;
    }
    let carrying: Vec<&str> = lines.iter().copied().filter(|l| l.trim_end().contains(mark)).take(60).collect();
    for method in methods() {
        for decimal in [false, true] {
            for (with_mark, cut) in [(false, 0), (true, 0), (false, 1), (false, 2)] {
                for skip in [0, 1] {
                    let way = Checksum { method: method.to_owned(), mark, with_mark, skip, cut, decimal };
                    let agreed = carrying.iter().filter(|l| way.checked(l, &bytes_of).is_some()).count();
                    if agreed >= 8 && agreed * 5 >= carrying.len() * 3 {
                        return Some(way);
                    }
                }
            }
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;

    fn bytes(text: &str) -> Vec<u8> {
        text.as_bytes().to_vec()
    }

    #[test]
    fn check_values_of_the_catalogue() {
        // "123456789", the check input of the catalogue of parametrised CRC algorithms.
        for (method, value) in [
            ("crc16_modbus", 0x4b37),
            ("crc16_xmodem", 0x31c3),
            ("crc16_ccitt_false", 0x29b1),
            ("crc32", 0xcbf4_3926),
            ("crc8", 0xf4),
        ] {
            assert_eq!(sum(method, b"123456789"), Some(value), "{method}");
        }
        assert_eq!(
            (sum("xor8", b"123456789"), sum("sum8", b"123456789"), sum("none", b"")),
            (Some(0x31), Some(0xdd), None)
        );
    }

    #[test]
    fn every_method_is_found_by_trying_and_noise_refused() {
        for method in methods() {
            let lines: Vec<String> = (0..40)
                .map(|i| {
                    let line = format!("D;2103{:02};{};{:.3};", i % 28 + 1, 1000 + i, f64::from(i) / 7.0);
                    format!("{line}*{:02X}", sum(method, line.trim_end_matches(';').as_bytes()).unwrap())
                })
                .collect();
            let lines: Vec<&str> = lines.iter().map(String::as_str).collect();
            let way = found(&lines, bytes).unwrap_or_else(|| panic!("{method}"));
            assert_eq!((way.method.as_str(), way.mark, way.cut), (method, '*', 1));
            assert_eq!(way.checked(lines[3], bytes), Some(lines[3].split_once(";*").unwrap().0));
            assert_eq!(way.checked(&lines[3].replace("1003", "1013"), bytes), None, "{method}");
        }
    }

    #[test]
    fn plain_numbers_at_the_end_of_lines_are_no_sum() {
        let lines: Vec<String> =
            (0..60).map(|i| format!("2024-01-01,{},{}", i * 37 % 97, 100 + i * 7919 % 900)).collect();
        assert_eq!(found(&lines.iter().map(String::as_str).collect::<Vec<_>>(), bytes), None);
        assert_eq!(found(&[], bytes), None);
    }
}
