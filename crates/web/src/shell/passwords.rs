//! Passwords and secrets: what is taken, hashed, compared.

use super::errors::Problem;
use crate::places::Places;
use actix_web::cookie::Key;
use argon2::Argon2;
use argon2::password_hash::phc::PasswordHash;
use argon2::password_hash::{PasswordHasher, PasswordVerifier};
use sha2::{Digest, Sha256};
use subtle::ConstantTimeEq;

/// Length of a password that is taken, characters.
const SHORTEST: usize = 10;
const LONGEST: usize = 200;

/// Whether a password can be taken.
///
/// # Errors
/// The sentence that stands at its field.
pub fn good(password: &str, name: &str) -> Result<(), String> {
    let length = password.chars().count();
    if length < SHORTEST {
        return Err(format!("Take at least {SHORTEST} characters; several words are good."));
    }
    if length > LONGEST {
        return Err(format!("Take at most {LONGEST} characters; this has {length}."));
    }
    if zxcvbn::zxcvbn(password, &[name, "ebrel"]).score() < zxcvbn::Score::Two {
        return Err(
            "This is among the passwords that are tried first. Take several words that do not belong together.".into(),
        );
    }
    Ok(())
}

/// Hashes a password, where there is a place for it.
pub async fn hash(places: &Places, password: String) -> Result<String, Problem> {
    let hash = move || Argon2::default().hash_password(password.as_bytes()).map(|h| h.to_string());
    places.take().await?.run(hash).await?.map_err(|e| Problem::Internal(e.to_string()))
}

/// Whether a password belongs to a hash; without one it takes as long, and does not.
pub async fn right(places: &Places, password: String, hash: Option<String>) -> Result<bool, Problem> {
    let same = move || {
        let argon = Argon2::default();
        match hash.as_deref().map(PasswordHash::new) {
            Some(Ok(known)) => argon.verify_password(password.as_bytes(), &known).is_ok(),
            _ => {
                drop(std::hint::black_box(argon.hash_password(password.as_bytes())));
                false
            }
        }
    };
    places.take().await?.run(same).await
}

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

/// A password for an account whose own was lost.
pub fn fresh() -> String {
    code(4)
}

/// A secret that nobody guesses.
pub fn secret() -> String {
    hex(&Key::generate().master()[..32])
}

/// The hash of a secret, as the database keeps it.
pub fn hash_of(secret: &str) -> String {
    hex(&Sha256::digest(secret.as_bytes()))
}

fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|b| format!("{b:02x}")).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn short_long_and_common_passwords_are_refused_with_words() {
        let says = |password: &str| good(password, "N. Arvel").unwrap_err();
        assert!(says("short").contains("at least 10"));
        assert!(says(&"x".repeat(201)).contains("this has 201"));
        for common in ["password123", "1234567890", "qwertyuiop", "aaaaaaaaaaaa"] {
            assert!(says(common).contains("tried first"), "{common}");
        }
        good("coppice hazel coupe", "N. Arvel").unwrap();
    }

    #[test]
    fn a_code_is_read_as_people_type_it() {
        assert!(same_code(" ABCD efgh-jkmn ", "abcd-efgh-jkmn"));
        assert!(!same_code("", "abcd-efgh-jkmn") && !same_code("abcd-efgh-jkmx", "abcd-efgh-jkmn"));
    }
}
