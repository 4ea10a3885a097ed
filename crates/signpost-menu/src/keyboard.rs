//! Keyboards. Firmware reads every keyboard as one of the United States; these say what stands on the same keys
//! elsewhere, as far as firmware tells keys apart.

/// The keys of a keyboard of the United States, row by row, alone and with Shift.
const PLAIN: &str = "`1234567890-=qwertyuiop[]\\asdfghjkl;'zxcvbnm,./";
const SHIFTED: &str = "~!@#$%^&*()_+QWERTYUIOP{}|ASDFGHJKL:\"ZXCVBNM<>?";

/// What stands on the keys of a keyboard. Signs that wait for a letter (accents) come at once.
#[derive(Debug, PartialEq, Eq)]
pub struct Keyboard {
    /// The name that the menu file uses.
    pub name: &'static str,
    /// Where it is used.
    pub country: &'static str,
    plain: &'static str,
    shifted: &'static str,
    /// With the right Alt key: a key of the United States, and what stands on it.
    third: &'static [(char, char)],
}

/// The keyboard that firmware takes every other for.
pub static UNITED_STATES: Keyboard =
    Keyboard { name: "us", country: "United States", plain: PLAIN, shifted: SHIFTED, third: &[] };

/// All of them, by name.
pub static KEYBOARDS: [&Keyboard; 7] = [
    &Keyboard {
        name: "de",
        country: "Germany, Austria",
        plain: "^1234567890ß´qwertzuiopü+#asdfghjklöäyxcvbnm,.-",
        shifted: "°!\"§$%&/()=?`QWERTZUIOPÜ*'ASDFGHJKLÖÄYXCVBNM;:_",
        third: &[
            ('q', '@'),
            ('e', '€'),
            ('7', '{'),
            ('8', '['),
            ('9', ']'),
            ('0', '}'),
            ('-', '\\'),
            (']', '~'),
            ('m', 'µ'),
            ('2', '²'),
            ('3', '³'),
        ],
    },
    &Keyboard {
        name: "es",
        country: "Spain",
        plain: "º1234567890'¡qwertyuiop`+çasdfghjklñ´zxcvbnm,.-",
        shifted: "ª!\"·$%&/()=?¿QWERTYUIOP^*ÇASDFGHJKLÑ¨ZXCVBNM;:_",
        third: &[
            ('`', '\\'),
            ('1', '|'),
            ('2', '@'),
            ('3', '#'),
            ('4', '~'),
            ('6', '¬'),
            ('e', '€'),
            ('[', '['),
            (']', ']'),
            ('\'', '{'),
            ('\\', '}'),
        ],
    },
    &Keyboard {
        name: "fr",
        country: "France",
        plain: "²&é\"'(-è_çà)=azertyuiop^$*qsdfghjklmùwxcvbn,;:!",
        shifted: "²1234567890°+AZERTYUIOP¨£µQSDFGHJKLM%WXCVBN?./§",
        third: &[
            ('2', '~'),
            ('3', '#'),
            ('4', '{'),
            ('5', '['),
            ('6', '|'),
            ('7', '`'),
            ('8', '\\'),
            ('9', '^'),
            ('0', '@'),
            ('-', ']'),
            ('=', '}'),
            ('e', '€'),
            (']', '¤'),
        ],
    },
    &Keyboard {
        name: "gb",
        country: "United Kingdom",
        plain: "`1234567890-=qwertyuiop[]#asdfghjkl;'zxcvbnm,./",
        shifted: "¬!\"£$%^&*()_+QWERTYUIOP{}~ASDFGHJKL:@ZXCVBNM<>?",
        third: &[('`', '¦'), ('4', '€'), ('a', 'á'), ('e', 'é'), ('i', 'í'), ('o', 'ó'), ('u', 'ú')],
    },
    &Keyboard {
        name: "it",
        country: "Italy",
        plain: "\\1234567890'ìqwertyuiopè+ùasdfghjklòàzxcvbnm,.-",
        shifted: "|!\"£$%&/()=?^QWERTYUIOPé*§ASDFGHJKLç°ZXCVBNM;:_",
        third: &[
            ('[', '['),
            (']', ']'),
            ('{', '{'),
            ('}', '}'),
            (';', '@'),
            ('\'', '#'),
            ('e', '€'),
            ('5', '€'),
        ],
    },
    &Keyboard {
        name: "se",
        country: "Sweden, Finland",
        plain: "§1234567890+´qwertyuiopå¨'asdfghjklöäzxcvbnm,.-",
        shifted: "½!\"#¤%&/()=?`QWERTYUIOPÅ^*ASDFGHJKLÖÄZXCVBNM;:_",
        third: &[
            ('2', '@'),
            ('3', '£'),
            ('4', '$'),
            ('5', '€'),
            ('7', '{'),
            ('8', '['),
            ('9', ']'),
            ('0', '}'),
            ('-', '\\'),
            (']', '~'),
            ('e', '€'),
            ('m', 'µ'),
        ],
    },
    &UNITED_STATES,
];

impl Keyboard {
    /// The keyboard of this name.
    pub fn named(name: &str) -> Option<&'static Self> {
        KEYBOARDS.iter().find(|keyboard| keyboard.name == name).copied()
    }

    /// Whether firmware reads it rightly by itself.
    pub fn is_united_states(&self) -> bool {
        *self == UNITED_STATES
    }

    /// The letter that was meant where firmware read `read`; `third` says that the right Alt key was held.
    pub fn letter(&self, read: char, third: bool) -> char {
        if third {
            let found = self.third.iter().find(|(key, _)| key.eq_ignore_ascii_case(&read));
            return found.map_or(read, |(_, letter)| *letter);
        }
        let on = |keys: &str, letters: &str| {
            let at = keys.chars().position(|key| key == read)?;
            letters.chars().nth(at)
        };
        on(PLAIN, self.plain).or_else(|| on(SHIFTED, self.shifted)).unwrap_or(read)
    }
}

#[cfg(test)]
mod tests {
    use alloc::vec::Vec;

    use super::*;

    /// Every letter that a keyboard reaches.
    fn reached(keyboard: &Keyboard) -> Vec<char> {
        let keys = || PLAIN.chars().chain(SHIFTED.chars());
        keys()
            .map(|key| keyboard.letter(key, false))
            .chain(keys().map(|key| keyboard.letter(key, true)))
            .collect()
    }

    #[test]
    fn every_keyboard_has_a_letter_for_every_key_and_reaches_what_a_line_needs() {
        for keyboard in KEYBOARDS {
            for row in [keyboard.plain, keyboard.shifted] {
                assert_eq!(row.chars().count(), PLAIN.chars().count(), "{}: {row}", keyboard.name);
            }
            let reached = reached(keyboard);
            let needed =
                ('a'..='z').chain('A'..='Z').chain('0'..='9').chain("=/-:*.,_+\"'@{}[]~#()?!;$".chars());
            for letter in needed {
                // On some keyboards a sign stands on the key beside the left Shift, which firmware does not tell from others.
                assert!(reached.contains(&letter), "{} does not reach {letter}", keyboard.name);
            }
        }
    }

    #[test]
    fn keys_that_lie_elsewhere_are_read_as_what_stands_on_them() {
        let typed = |name: &str, keys: &str| -> alloc::string::String {
            keys.chars().map(|key| Keyboard::named(name).unwrap().letter(key, false)).collect()
        };
        assert_eq!(typed("de", "look v1>&boot&efi"), "look v1:/boot/efi");
        assert_eq!(typed("de", "args root)rw *yoom"), "args root=rw (zoom");
        assert_eq!(typed("fr", "qrgs +single"), "args +single");
        assert_eq!(typed("fr", "look v!.>boot"), "look v1:/boot");
        assert_eq!(typed("us", "look v1:/boot"), "look v1:/boot");
        assert_eq!(Keyboard::named("de").unwrap().letter('q', true), '@');
        assert_eq!(Keyboard::named("it").unwrap().letter('\r', false), '\r');
        assert!(Keyboard::named("xx").is_none());
    }
}
