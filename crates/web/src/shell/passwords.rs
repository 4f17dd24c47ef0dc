//! Passwords: what is taken, hashed, compared.

use super::errors::Problem;
use crate::state::places::Places;
use argon2::Argon2;
use argon2::password_hash::phc::PasswordHash;
use argon2::password_hash::{PasswordHasher, PasswordVerifier};

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
    Ok(places.take().await?.run(same).await?)
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
}
