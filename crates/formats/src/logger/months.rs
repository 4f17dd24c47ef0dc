//! Names of months in the languages of the field.

/// Full names, without accents, by language: English, German, French, Spanish, Italian, Dutch, Portuguese.
const NAMES: [[&str; 12]; 7] = [
    [
        "january",
        "february",
        "march",
        "april",
        "may",
        "june",
        "july",
        "august",
        "september",
        "october",
        "november",
        "december",
    ],
    [
        "januar",
        "februar",
        "marz",
        "april",
        "mai",
        "juni",
        "juli",
        "august",
        "september",
        "oktober",
        "november",
        "dezember",
    ],
    [
        "janvier",
        "fevrier",
        "mars",
        "avril",
        "mai",
        "juin",
        "juillet",
        "aout",
        "septembre",
        "octobre",
        "novembre",
        "decembre",
    ],
    [
        "enero",
        "febrero",
        "marzo",
        "abril",
        "mayo",
        "junio",
        "julio",
        "agosto",
        "septiembre",
        "octubre",
        "noviembre",
        "diciembre",
    ],
    [
        "gennaio",
        "febbraio",
        "marzo",
        "aprile",
        "maggio",
        "giugno",
        "luglio",
        "agosto",
        "settembre",
        "ottobre",
        "novembre",
        "dicembre",
    ],
    [
        "januari",
        "februari",
        "maart",
        "april",
        "mei",
        "juni",
        "juli",
        "augustus",
        "september",
        "oktober",
        "november",
        "december",
    ],
    [
        "janeiro",
        "fevereiro",
        "marco",
        "abril",
        "maio",
        "junho",
        "julho",
        "agosto",
        "setembro",
        "outubro",
        "novembro",
        "dezembro",
    ],
];

/// Short forms that are no beginning of a name.
const SHORT: [(&str, u8); 6] = [("mrz", 3), ("maerz", 3), ("mae", 3), ("mrt", 3), ("sept", 9), ("fvr", 2)];

/// A letter without its accent, small.
pub(super) fn plain(c: char) -> char {
    match c.to_lowercase().next().unwrap_or(c) {
        'á' | 'à' | 'â' | 'ä' | 'ã' => 'a',
        'é' | 'è' | 'ê' | 'ë' => 'e',
        'í' | 'ì' | 'î' => 'i',
        'ó' | 'ò' | 'ô' | 'ö' | 'õ' => 'o',
        'ú' | 'ù' | 'û' | 'ü' => 'u',
        'ç' => 'c',
        'ñ' => 'n',
        c => c,
    }
}

/// The month that a word of three letters or more names, short or in full.
pub(super) fn month(word: &str) -> Option<u8> {
    let word: String = word.chars().map(plain).collect();
    if word.chars().count() < 3 {
        return None;
    }
    if let Some((_, month)) = SHORT.iter().find(|(short, _)| *short == word) {
        return Some(*month);
    }
    let mut found = None;
    for names in &NAMES {
        for (number, name) in (1..).zip(names) {
            if name.starts_with(&word) {
                // "jui" may be June or July.
                if found.is_some_and(|f| f != number) {
                    return None;
                }
                found = Some(number);
            }
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn months_short_and_full_in_seven_languages() {
        for (word, number) in [
            ("Jan", 1),
            ("FÉVR", 2),
            ("Mär", 3),
            ("März", 3),
            ("Mrz", 3),
            ("avr", 4),
            ("Mai", 5),
            ("mei", 5),
            ("juin", 6),
            ("juil", 7),
            ("août", 8),
            ("ago", 8),
            ("Sept", 9),
            ("set", 9),
            ("Okt", 10),
            ("ott", 10),
            ("out", 10),
            ("Dez", 12),
            ("diciembre", 12),
            ("déc", 12),
            ("ene", 1),
        ] {
            assert_eq!(month(word), Some(number), "{word}");
        }
        for word in ["jui", "ma", "", "mon", "xyz", "ju"] {
            assert_eq!(month(word), None, "{word}");
        }
        for names in &NAMES {
            for (number, name) in (1..).zip(names) {
                assert_eq!(month(name), Some(number), "{name}");
            }
        }
    }
}
