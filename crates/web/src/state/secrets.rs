//! Secrets and codes: made, compared, hashed.

use actix_web::cookie::Key;
use sha2::{Digest, Sha256};
use subtle::ConstantTimeEq;

/// Whether a code was typed as it stands at the terminal; dashes, blanks and capitals do not matter.
pub fn same_code(typed: &str, code: &str) -> bool {
    let plain = |text: &str| -> Vec<u8> {
        text.chars().filter(char::is_ascii_alphanumeric).map(|c| c.to_ascii_lowercase() as u8).collect()
    };
    plain(typed).ct_eq(&plain(code)).into()
}

/// Groups of four letters and digits that cannot be mistaken for each other.
pub fn code(groups: usize) -> String {
    const SIGNS: &[u8] = b"abcdefghjkmnpqrstuvwxyz23456789";
    let random = Key::generate();
    // 31 signs divide a byte's 256 values unevenly by less than one part in eight: each sign is worth more than 4.8 bits.
    let signs: Vec<u8> =
        random.master()[..4 * groups.min(8)].iter().map(|b| SIGNS[usize::from(*b) % SIGNS.len()]).collect();
    signs.chunks(4).map(|c| String::from_utf8_lossy(c).into_owned()).collect::<Vec<_>>().join("-")
}

/// A secret that nobody guesses.
pub fn secret() -> String {
    hex::encode(&Key::generate().master()[..32])
}

/// The hash of a secret, as the database keeps it.
pub fn hash_of(secret: &str) -> String {
    hex::encode(Sha256::digest(secret.as_bytes()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_code_is_read_as_people_type_it() {
        assert!(same_code(" ABCD efgh-jkmn ", "abcd-efgh-jkmn"));
        assert!(!same_code("", "abcd-efgh-jkmn") && !same_code("abcd-efgh-jkmx", "abcd-efgh-jkmn"));
    }
}
