//! DER, the writing side (X.690), and a reader that gives the exact bytes of an element.
//!
//! Certificates and CRLs are signed as bytes, so what is signed is written here element by element, and what is
//! verified is cut out of the received bytes and never encoded again.

use const_oid::ObjectIdentifier;
use der::{Decode, Encode, Reader, SliceReader};

use crate::time::UnixTime;

/// Tags used here (X.690 section 8.1.2).
const BOOLEAN: u8 = 0x01;
const INTEGER: u8 = 0x02;
const BIT_STRING: u8 = 0x03;
const OCTET_STRING: u8 = 0x04;
const ENUMERATED: u8 = 0x0a;
const UTF8_STRING: u8 = 0x0c;
const PRINTABLE_STRING: u8 = 0x13;
const UTC_TIME: u8 = 0x17;
const GENERALIZED_TIME: u8 = 0x18;
const SEQUENCE: u8 = 0x30;
const SET: u8 = 0x31;

/// One element: `tag`, the length in its shortest form, `content`.
#[must_use]
pub fn element(tag: u8, content: &[u8]) -> Vec<u8> {
    let mut out = Vec::with_capacity(content.len() + 6);
    out.push(tag);
    match u8::try_from(content.len()) {
        Ok(len) if len < 0x80 => out.push(len),
        _ => {
            let bytes = content.len().to_be_bytes();
            let skip = bytes.iter().take_while(|&&byte| byte == 0).count();
            let octets = &bytes[skip..];
            out.push(0x80 | u8::try_from(octets.len()).unwrap_or(8));
            out.extend_from_slice(octets);
        }
    }
    out.extend_from_slice(content);
    out
}

/// SEQUENCE of elements that are already encoded.
#[must_use]
pub fn sequence(parts: &[&[u8]]) -> Vec<u8> {
    element(SEQUENCE, &parts.concat())
}

/// SET of one element.
#[must_use]
pub fn set_of_one(part: &[u8]) -> Vec<u8> {
    element(SET, part)
}

/// SET OF elements, which are sorted already as DER wants (X.690 section 11.6).
#[must_use]
pub fn set_of(parts: &[Vec<u8>]) -> Vec<u8> {
    element(SET, &parts.concat())
}

/// OBJECT IDENTIFIER.
#[must_use]
pub fn oid(oid: ObjectIdentifier) -> Vec<u8> {
    element(0x06, oid.as_bytes())
}

/// INTEGER from an unsigned big-endian number; leading zeros are dropped and a sign octet is put where needed.
#[must_use]
pub fn unsigned(big_endian: &[u8]) -> Vec<u8> {
    let skip = big_endian.iter().take_while(|&&byte| byte == 0).count();
    let digits = &big_endian[skip..];
    if digits.first().is_none_or(|&first| first >= 0x80) {
        return element(INTEGER, &[&[0], digits].concat());
    }
    element(INTEGER, digits)
}

/// NULL.
#[must_use]
pub fn null() -> Vec<u8> {
    element(0x05, &[])
}

/// BOOLEAN TRUE; DER leaves FALSE out wherever it is the default.
#[must_use]
pub fn boolean_true() -> Vec<u8> {
    element(BOOLEAN, &[0xff])
}

/// ENUMERATED below 128.
#[must_use]
pub fn enumerated(value: u8) -> Vec<u8> {
    element(ENUMERATED, &[value & 0x7f])
}

/// BIT STRING of whole octets.
#[must_use]
pub fn bit_string(octets: &[u8]) -> Vec<u8> {
    element(BIT_STRING, &[&[0], octets].concat())
}

/// BIT STRING with named bits (X.680 section 22): bit 0 is the highest bit of the first octet; trailing zeros are cut.
#[must_use]
pub fn named_bits(bits: &[u8]) -> Vec<u8> {
    let mut octets = [0u8; 2];
    for &bit in bits {
        if let Some(octet) = octets.get_mut(usize::from(bit / 8)) {
            *octet |= 0x80 >> (bit % 8);
        }
    }
    let used = octets.iter().rposition(|&octet| octet != 0).map_or(0, |last| last + 1);
    let spare = octets[..used].last().map_or(0, |last| last.trailing_zeros());
    let mut content = vec![u8::try_from(spare).unwrap_or(0)];
    content.extend_from_slice(&octets[..used]);
    element(BIT_STRING, &content)
}

/// OCTET STRING.
#[must_use]
pub fn octet_string(octets: &[u8]) -> Vec<u8> {
    element(OCTET_STRING, octets)
}

/// UTF8String.
#[must_use]
pub fn utf8(text: &str) -> Vec<u8> {
    element(UTF8_STRING, text.as_bytes())
}

/// PrintableString; the caller has checked the characters.
#[must_use]
pub fn printable(text: &str) -> Vec<u8> {
    element(PRINTABLE_STRING, text.as_bytes())
}

/// `[number] EXPLICIT` or another constructed context-specific element.
#[must_use]
pub fn context_constructed(number: u8, content: &[u8]) -> Vec<u8> {
    element(0xa0 | number, content)
}

/// `[number] IMPLICIT` of a primitive type.
#[must_use]
pub fn context_primitive(number: u8, content: &[u8]) -> Vec<u8> {
    element(0x80 | number, content)
}

/// Time: UTCTime through the year 2049, GeneralizedTime from 2050 on (RFC 5280 section 4.1.2.5).
///
/// Instants before the year 1950 or after 9999-12-30T22:00:00Z, the calendar library's last, are clipped to that range.
#[must_use]
pub fn time(at: UnixTime) -> Vec<u8> {
    const FIRST: i64 = -631_152_000; // 1950-01-01T00:00:00Z
    const LAST: i64 = 253_402_207_200; // 9999-12-30T22:00:00Z
    let clipped = UnixTime(at.0.clamp(FIRST, LAST));
    let Some(civil) = clipped.civil() else {
        unreachable!("the range above lies within the calendar's range");
    };
    let rest =
        format!("{:02}{:02}{:02}{:02}{:02}Z", civil.month(), civil.day(), civil.hour(), civil.minute(), civil.second());
    if civil.year() < 2050 {
        element(UTC_TIME, format!("{:02}{rest}", civil.year() % 100).as_bytes())
    } else {
        element(GENERALIZED_TIME, format!("{:04}{rest}", civil.year()).as_bytes())
    }
}

/// The three parts of a signed structure (certificate, CRL, PKCS#10 request), as they stand in the input.
#[derive(Debug, Clone, Copy)]
pub struct Signed<'a> {
    /// What the signature covers, with tag and length.
    pub to_be_signed: &'a [u8],
    /// AlgorithmIdentifier, with tag and length.
    pub algorithm: &'a [u8],
    /// The signature's octets, without the BIT STRING's count of unused bits.
    pub signature: &'a [u8],
}

impl<'a> Signed<'a> {
    /// Splits `SEQUENCE { tbs, algorithm, BIT STRING }`. Nothing may follow it.
    ///
    /// # Errors
    /// Input that is not DER of this shape.
    pub fn split(input: &'a [u8]) -> Result<Self, der::Error> {
        let mut outer = SliceReader::new(input)?;
        let signed = outer.sequence(|reader| {
            let to_be_signed = reader.tlv_bytes()?;
            let algorithm = reader.tlv_bytes()?;
            let signature = der::asn1::BitStringRef::decode(reader)?;
            let signature = signature.as_bytes().ok_or_else(|| der::Tag::BitString.value_error())?;
            Ok::<_, der::Error>(Self { to_be_signed, algorithm, signature })
        })?;
        outer.finish()?;
        Ok(signed)
    }
}

/// The content of an element, which must have this tag.
///
/// # Errors
/// Another tag, or not one element.
pub fn content(element: &[u8], tag: der::Tag) -> Result<&[u8], der::Error> {
    let header = der::Header::peek(&SliceReader::new(element)?)?;
    header.tag().assert_eq(tag)?;
    let length = usize::try_from(header.length())?;
    element.get(element.len().wrapping_sub(length)..).ok_or_else(|| tag.length_error().into())
}

/// Reads UTCTime or GeneralizedTime in the forms that RFC 5280 section 4.1.2.5 allows.
///
/// # Errors
/// Another element or form.
pub fn read_time(reader: &mut SliceReader<'_>) -> Result<UnixTime, der::Error> {
    let time = x509_cert::time::Time::decode(reader)?;
    let seconds = i64::try_from(time.to_unix_duration().as_secs()).map_err(|_| der::Tag::UtcTime.value_error())?;
    Ok(UnixTime(seconds))
}

/// The PEM blocks (RFC 7468) of a text, with their labels; text around them is passed over. `None` if a block is damaged.
#[must_use]
pub fn pem_blocks(octets: &[u8]) -> Option<Vec<(String, Vec<u8>)>> {
    const BEGIN: &str = "-----BEGIN ";
    let text = std::str::from_utf8(octets).ok()?;
    let mut blocks = Vec::new();
    for rest in text.split(BEGIN).skip(1) {
        let label = rest.split("-----").next()?;
        let end = format!("-----END {label}-----");
        let stop = rest.find(&end)? + end.len();
        let block = format!("{BEGIN}{}", &rest[..stop]);
        let (label, der_bytes) = der::pem::decode_vec(block.as_bytes()).ok()?;
        blocks.push((label.to_owned(), der_bytes));
    }
    Some(blocks)
}

/// The DER in a file that holds PEM blocks of one label, or one value in DER; `None` if it is something else or empty.
#[must_use]
pub fn der_values(octets: &[u8], label: &str) -> Option<Vec<Vec<u8>>> {
    if octets.first() == Some(&SEQUENCE) {
        return Some(vec![octets.to_vec()]);
    }
    let blocks = pem_blocks(octets)?;
    let all_labelled = !blocks.is_empty() && blocks.iter().all(|(found, _)| found == label);
    all_labelled.then(|| blocks.into_iter().map(|(_, der_bytes)| der_bytes).collect())
}

/// DER of a value whose type can always be encoded (names, key infos that were decoded before).
///
/// # Errors
/// What the encoder says, for values beyond its length limit (256 MiB).
pub fn encode<T: Encode>(value: &T) -> Result<Vec<u8>, der::Error> {
    value.to_der()
}

/// PEM (RFC 7468) with LF line ends.
#[must_use]
pub fn pem(label: &'static str, der_bytes: &[u8]) -> String {
    let body = data_encoding::BASE64.encode(der_bytes);
    let mut out = String::with_capacity(body.len() + body.len() / 64 + 2 * label.len() + 40);
    out.push_str(&format!("-----BEGIN {label}-----\n"));
    let mut rest = body.as_str();
    while !rest.is_empty() {
        let (line, more) = rest.split_at(rest.len().min(64));
        out.push_str(line);
        out.push('\n');
        rest = more;
    }
    out.push_str(&format!("-----END {label}-----\n"));
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lengths_take_the_shortest_form() {
        for (len, head) in [
            (0usize, vec![0x04, 0x00]),
            (127, vec![0x04, 0x7f]),
            (128, vec![0x04, 0x81, 0x80]),
            (255, vec![0x04, 0x81, 0xff]),
            (256, vec![0x04, 0x82, 0x01, 0x00]),
            (70_000, vec![0x04, 0x83, 0x01, 0x11, 0x70]),
        ] {
            let out = octet_string(&vec![7; len]);
            assert_eq!(&out[..head.len()], head.as_slice(), "{len}");
            assert_eq!(out.len(), head.len() + len);
        }
    }

    #[test]
    fn integers_are_unsigned_and_minimal() {
        for (number, want) in [
            (vec![], vec![2, 1, 0]),
            (vec![0, 0], vec![2, 1, 0]),
            (vec![0x7f], vec![2, 1, 0x7f]),
            (vec![0x80], vec![2, 2, 0, 0x80]),
            (vec![0, 0, 1, 0], vec![2, 2, 1, 0]),
        ] {
            assert_eq!(unsigned(&number), want, "{number:?}");
        }
    }

    #[test]
    fn named_bits_cut_trailing_zeros() {
        assert_eq!(named_bits(&[0]), [3, 2, 7, 0x80]); // digitalSignature
        assert_eq!(named_bits(&[5, 6]), [3, 2, 1, 0x06]); // keyCertSign, cRLSign
        assert_eq!(named_bits(&[8]), [3, 3, 7, 0x00, 0x80]); // decipherOnly
        assert_eq!(named_bits(&[]), [3, 1, 0]);
    }

    #[test]
    fn times_change_form_at_2050() {
        assert_eq!(time(UnixTime(2_524_607_999)), b"\x17\x0d491231235959Z");
        assert_eq!(time(UnixTime(2_524_608_000)), b"\x18\x0f20500101000000Z");
        assert_eq!(time(UnixTime(i64::MAX)), b"\x18\x0f99991230220000Z");
        assert_eq!(time(UnixTime(-631_152_000)), b"\x17\x0d500101000000Z");
    }

    #[test]
    fn splitting_refuses_what_follows() {
        let inner = sequence(&[&sequence(&[]), &sequence(&[]), &bit_string(b"s")]);
        assert_eq!(Signed::split(&inner).unwrap().signature, b"s");
        assert!(Signed::split(&[inner.as_slice(), &[0]].concat()).is_err());
        assert!(Signed::split(&inner[..inner.len() - 1]).is_err());
    }
}
