//! How the password field is read. A form is a small pattern; trying all forms of a chain on a text gives its readings.

use std::fmt;
use std::ops::{Range, RangeInclusive};
use thiserror::Error;

/// The longest pattern that is read, in bytes.
const MAX_PATTERN: usize = 200;
/// Digits that a code may have: 6 to 8 for tokens, 10 for recovery codes.
const CODE_DIGITS: RangeInclusive<u8> = 6..=10;
/// Digits that a PIN may have.
const PIN_DIGITS: RangeInclusive<u8> = 4..=12;

/// One field of a form.
#[derive(Debug, Clone, PartialEq, Eq)]
enum Field {
    Password,
    /// From so many digits to so many.
    Pin(u8, u8),
    Code(u8, u8),
    /// One of the chain's factor words.
    Factor,
    Literal(String),
}

/// A pattern such as `password code(6)`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Form {
    fields: Vec<Field>,
}

/// What is wrong with a pattern, and where.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("{message}")]
pub struct FormError {
    /// The place in the pattern, in bytes.
    pub span: Range<usize>,
    /// What is wrong.
    pub message: String,
}

/// One way to read a text: which part is what, as byte ranges.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Reading {
    /// The form's place in the chain's list.
    pub form: usize,
    /// Where the password stands, if the form has one.
    pub password: Option<Range<usize>>,
    /// Where the PIN stands, if the form has one.
    pub pin: Option<Range<usize>>,
    /// Where the code stands, if the form has one.
    pub code: Option<Range<usize>>,
    /// Which of the factor words stands there, if the form has a place for one.
    pub factor: Option<usize>,
}

impl Form {
    /// Reads a pattern.
    ///
    /// # Errors
    /// All that is wrong with it, each with its place.
    pub fn parse(pattern: &str) -> Result<Self, Vec<FormError>> {
        if pattern.len() > MAX_PATTERN {
            return Err(vec![error(0..pattern.len(), format!("a form cannot be longer than {MAX_PATTERN} bytes"))]);
        }
        let mut fields = Vec::new();
        let mut errors = Vec::new();
        for (span, word) in words(pattern) {
            match field(word) {
                Ok(field) => fields.push((span, field)),
                Err(message) => errors.push(error(span, message)),
            }
        }
        errors.extend(shape_errors(pattern, &fields, errors.is_empty()));
        if errors.is_empty() { Ok(Form { fields: fields.into_iter().map(|(_, field)| field).collect() }) } else { Err(errors) }
    }

    /// Whether it has a place for a password.
    pub fn has_password(&self) -> bool {
        self.fields.contains(&Field::Password)
    }

    /// Whether it asks for a code.
    pub fn has_code(&self) -> bool {
        self.fields.iter().any(|field| matches!(field, Field::Code(..)))
    }

    /// Whether it asks for a PIN.
    pub fn has_pin(&self) -> bool {
        self.fields.iter().any(|field| matches!(field, Field::Pin(..)))
    }

    /// Whether it has a place for a factor word.
    pub fn has_factor(&self) -> bool {
        self.fields.contains(&Field::Factor)
    }

    /// Whether it takes codes of so many digits.
    pub fn takes_digits(&self, digits: u8) -> bool {
        self.fields.iter().any(|field| matches!(field, Field::Code(least, most) if (*least..=*most).contains(&digits)))
    }

    /// What somebody would type by it, with made-up parts: once with the shortest, once with the longest, and with every word.
    pub fn examples(&self, factors: &[String]) -> Vec<String> {
        let counts = |longest: bool, least: u8, most: u8| usize::from(if longest { most } else { least });
        let written = |longest: bool, word: &str| -> String {
            let part = |field: &Field| match field {
                Field::Password => "tide-and-time".to_owned(),
                Field::Pin(least, most) => "246813579024".chars().take(counts(longest, *least, *most)).collect(),
                Field::Code(least, most) => "1234567890".chars().take(counts(longest, *least, *most)).collect(),
                Field::Factor => word.to_owned(),
                Field::Literal(text) => text.clone(),
            };
            self.fields.iter().map(part).collect()
        };
        let mut all = Vec::new();
        let none = [String::new()];
        for word in if self.has_factor() { factors } else { &none } {
            for longest in [false, true] {
                let text = written(longest, word);
                if !all.contains(&text) {
                    all.push(text);
                }
            }
        }
        all
    }

    /// Builds the text that somebody would have typed by it, or nothing where a part that it needs is not given.
    pub fn compose(&self, password: &str, code: &str) -> Option<String> {
        let mut text = String::with_capacity(password.len() + code.len() + 4);
        for field in &self.fields {
            match field {
                Field::Password => text.push_str(password),
                Field::Code(least, most) if (usize::from(*least)..=usize::from(*most)).contains(&code.len()) => text.push_str(code),
                Field::Literal(literal) => text.push_str(literal),
                _ => return None,
            }
        }
        Some(text)
    }

    /// Builds the text of a reading again from its parts; a part that is not given is left out.
    pub fn rebuild(&self, password: &str, pin: Option<&str>, code: Option<&str>, word: Option<&str>) -> String {
        let part = |field: &Field| match field {
            Field::Password => password.to_owned(),
            Field::Pin(..) => pin.unwrap_or_default().to_owned(),
            Field::Code(..) => code.unwrap_or_default().to_owned(),
            Field::Factor => word.unwrap_or_default().to_owned(),
            Field::Literal(literal) => literal.clone(),
        };
        self.fields.iter().map(part).collect()
    }

    /// Reads a text by this form: all ways in which it fits, longer codes and PINs first.
    fn read(&self, index: usize, factors: &[String], text: &str, found: &mut Vec<Reading>) {
        let free = self.fields.iter().position(|field| *field == Field::Password);
        let (before, after) = self.fields.split_at(free.unwrap_or(self.fields.len()));
        let reading = Reading { form: index, ..Reading::default() };
        let Some((_, after)) = after.split_first() else {
            forwards(before, factors, text, 0, reading, &mut |reading, end| {
                if end == text.len() {
                    found.push(reading);
                }
            });
            return;
        };
        forwards(before, factors, text, 0, reading, &mut |reading, begin| {
            backwards(after, factors, text, text.len(), reading, &mut |mut reading, end| {
                if begin <= end && text.is_char_boundary(begin) && text.is_char_boundary(end) {
                    reading.password = Some(begin..end);
                    found.push(reading);
                }
            });
        });
    }
}

/// All readings of a text, in the order in which the chain prefers its forms. `factors` are the chain's factor words.
pub fn readings(forms: &[Form], factors: &[String], text: &str) -> Vec<Reading> {
    let mut found = Vec::with_capacity(forms.len());
    for (index, form) in forms.iter().enumerate() {
        form.read(index, factors, text, &mut found);
    }
    found
}

/// Reads fields from `at` on to the right; `each` gets every way with its end.
fn forwards(fields: &[Field], factors: &[String], text: &str, at: usize, reading: Reading, each: &mut dyn FnMut(Reading, usize)) {
    let Some((field, rest)) = fields.split_first() else { return each(reading, at) };
    for length in field.lengths(factors) {
        let end = at + length;
        if let Some(part) = text.get(at..end)
            && let Some(reading) = field.fits(part, factors, at..end, &reading)
        {
            forwards(rest, factors, text, end, reading, each);
        }
    }
}

/// Reads fields from `end` on to the left; `each` gets every way with its begin.
fn backwards(fields: &[Field], factors: &[String], text: &str, end: usize, reading: Reading, each: &mut dyn FnMut(Reading, usize)) {
    let Some((field, rest)) = fields.split_last() else { return each(reading, end) };
    for length in field.lengths(factors) {
        let Some(at) = end.checked_sub(length) else { continue };
        if let Some(part) = text.get(at..end)
            && let Some(reading) = field.fits(part, factors, at..end, &reading)
        {
            backwards(rest, factors, text, at, reading, each);
        }
    }
}

impl Field {
    /// The lengths that it may have, in bytes, longest first; each once.
    fn lengths(&self, factors: &[String]) -> impl Iterator<Item = usize> {
        let (digits, literal, words) = match self {
            Field::Password => (None, None, &[][..]),
            Field::Pin(least, most) | Field::Code(least, most) => (Some(*least..=*most), None, &[][..]),
            Field::Literal(text) => (None, Some(text.len()), &[][..]),
            Field::Factor => (None, None, factors),
        };
        let mut lengths: Vec<usize> = words.iter().map(String::len).collect();
        lengths.sort_unstable_by(|a, b| b.cmp(a));
        lengths.dedup();
        digits.into_iter().flatten().rev().map(usize::from).chain(literal).chain(lengths)
    }

    /// The reading with this field's part in it, if the part fits.
    fn fits(&self, part: &str, factors: &[String], span: Range<usize>, reading: &Reading) -> Option<Reading> {
        let digits = || part.bytes().all(|byte| byte.is_ascii_digit());
        match self {
            Field::Pin(..) if digits() => Some(Reading { pin: Some(span), ..reading.clone() }),
            Field::Code(..) if digits() => Some(Reading { code: Some(span), ..reading.clone() }),
            Field::Literal(literal) if part == literal => Some(reading.clone()),
            Field::Factor => {
                let word = factors.iter().position(|word| word.eq_ignore_ascii_case(part))?;
                Some(Reading { factor: Some(word), ..reading.clone() })
            }
            _ => None,
        }
    }
}

impl fmt::Display for Form {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (index, field) in self.fields.iter().enumerate() {
            let gap = if index == 0 { "" } else { " " };
            match field {
                Field::Password => write!(f, "{gap}password")?,
                Field::Pin(least, most) if least == most => write!(f, "{gap}pin({least})")?,
                Field::Pin(least, most) => write!(f, "{gap}pin({least}..{most})")?,
                Field::Code(least, most) if least == most => write!(f, "{gap}code({least})")?,
                Field::Code(least, most) => write!(f, "{gap}code({least}..{most})")?,
                Field::Factor => write!(f, "{gap}factor")?,
                Field::Literal(text) => write!(f, "{gap}'{text}'")?,
            }
        }
        Ok(())
    }
}

/// Splits a pattern into words; a quoted literal is one word and may hold spaces.
fn words(pattern: &str) -> Vec<(Range<usize>, &str)> {
    let mut found = Vec::new();
    let mut start = None;
    let mut quoted = false;
    for (at, character) in pattern.char_indices() {
        if character == '\'' {
            quoted = !quoted;
        }
        match (start, character.is_whitespace() && !quoted) {
            (None, false) => start = Some(at),
            (Some(begin), true) => {
                found.push((begin..at, &pattern[begin..at]));
                start = None;
            }
            _ => {}
        }
    }
    if let Some(begin) = start {
        found.push((begin..pattern.len(), &pattern[begin..]));
    }
    found
}

fn field(word: &str) -> Result<Field, String> {
    match word {
        "password" => return Ok(Field::Password),
        "factor" => return Ok(Field::Factor),
        _ => {}
    }
    if let Some(literal) = word.strip_prefix('\'') {
        return match literal.strip_suffix('\'') {
            Some(text) if !text.is_empty() && !text.contains('\'') => Ok(Field::Literal(text.to_owned())),
            _ => Err(format!("{word} is not a literal; write it between single quotes, like ' '")),
        };
    }
    let inside = |name: &str| word.strip_prefix(name).and_then(|rest| rest.strip_prefix('(')).and_then(|rest| rest.strip_suffix(')'));
    if let Some(digits) = inside("code") {
        let (least, most) = digit_range(digits, &CODE_DIGITS)
            .ok_or_else(|| format!("`{word}`: a code has 6 to 10 digits; write `code(6)` or `code(6..8)`"))?;
        return Ok(Field::Code(least, most));
    }
    if let Some(digits) = inside("pin") {
        let (least, most) = digit_range(digits, &PIN_DIGITS)
            .ok_or_else(|| format!("`{word}`: a PIN has 4 to 12 digits, written like `pin(4)` or `pin(4..6)`"))?;
        return Ok(Field::Pin(least, most));
    }
    Err(format!("`{word}` is not a field; use `password`, `code(6)`, `code(6..8)`, `pin(4..6)`, `factor`, and literals like ' '"))
}

/// Reads `6` or `6..8`.
fn digit_range(text: &str, allowed: &RangeInclusive<u8>) -> Option<(u8, u8)> {
    let (least, most) = text.split_once("..").unwrap_or((text, text));
    let (least, most) = (least.trim().parse().ok()?, most.trim().parse().ok()?);
    (least <= most && allowed.contains(&least) && allowed.contains(&most)).then_some((least, most))
}

fn shape_errors(pattern: &str, fields: &[(Range<usize>, Field)], all_read: bool) -> Vec<FormError> {
    let mut errors = Vec::new();
    let mut repeated = |is: fn(&Field) -> bool, message: &str| {
        errors.extend(fields.iter().filter(|(_, field)| is(field)).skip(1).map(|(span, _)| error(span.clone(), message.to_owned())));
    };
    repeated(|field| *field == Field::Password, "`password` appears twice; only one field can have variable length");
    repeated(|field| matches!(field, Field::Code(..)), "a form can have only one code");
    repeated(|field| matches!(field, Field::Pin(..)), "a form has one PIN at most");
    repeated(|field| *field == Field::Factor, "a form has one factor word at most");
    if !all_read {
        return errors;
    }
    let place = |is: fn(&Field) -> bool| fields.iter().position(|(_, field)| is(field));
    let (pin, code) = (place(|field| matches!(field, Field::Pin(..))), place(|field| matches!(field, Field::Code(..))));
    let factor = place(|field| *field == Field::Factor);
    let span = |at: usize| fields.get(at).map_or(0..pattern.len(), |(span, _)| span.clone());
    match (pin, code) {
        (Some(pin), None) => errors.push(error(span(pin), "this form has a PIN but no code; a PIN must precede a code".into())),
        (Some(pin), Some(code)) if pin > code => errors.push(error(span(pin), "the PIN must come before the code".into())),
        _ => {}
    }
    if let (Some(factor), Some(_)) = (factor, code) {
        errors.push(error(span(factor), "a form can have a code or a factor word, not both".into()));
    }
    if !fields.iter().any(|(_, field)| *field == Field::Password) && code.is_none() {
        errors.push(error(0..pattern.len(), "the form has neither a `password` nor a code: there is nothing to check".into()));
    }
    errors
}

fn error(span: Range<usize>, message: String) -> FormError {
    FormError { span, message }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn forms(patterns: &[&str]) -> Vec<Form> {
        patterns.iter().map(|pattern| Form::parse(pattern).unwrap()).collect()
    }

    fn spelt() -> Vec<String> {
        ["text", "mail", "approve"].map(str::to_owned).to_vec()
    }

    /// Readings as `form:password|pin|code|factor`.
    fn shown(patterns: &[&str], text: &str) -> Vec<String> {
        let words = spelt();
        let part = |range: Option<Range<usize>>| range.map_or("-", |range| &text[range]).to_owned();
        let show = |reading: Reading| {
            let factor = reading.factor.map_or("-", |at| &words[at]).to_owned();
            format!("{}:{}|{}|{}|{factor}", reading.form, part(reading.password), part(reading.pin), part(reading.code))
        };
        readings(&forms(patterns), &words, text).into_iter().map(show).collect()
    }

    #[test]
    fn every_form_gives_its_readings_in_the_order_of_preference() {
        let forms = ["password code(6)", "code(6) password", "password ',' code(6)", "password"];
        for (text, wanted) in [
            ("tide123456", vec!["0:tide|-|123456|-", "3:tide123456|-|-|-"]),
            ("123456tide", vec!["1:tide|-|123456|-", "3:123456tide|-|-|-"]),
            ("a,123456", vec!["0:a,|-|123456|-", "2:a|-|123456|-", "3:a,123456|-|-|-"]),
            ("123456", vec!["0:|-|123456|-", "1:|-|123456|-", "3:123456|-|-|-"]),
            ("Strömung", vec!["3:Strömung|-|-|-"]),
            ("", vec!["3:|-|-|-"]),
        ] {
            assert_eq!(shown(&forms, text), wanted, "{text}");
        }
    }

    #[test]
    fn ranges_pins_and_factor_words_are_read_in_every_way_that_fits() {
        assert_eq!(shown(&["password code(6..8)"], "a12345678"), ["0:a|-|12345678|-", "0:a1|-|2345678|-", "0:a12|-|345678|-"]);
        assert_eq!(shown(&["pin(4..6) code(6)"], "1234567890"), ["0:-|1234|567890|-"]);
        assert_eq!(shown(&["pin(4..6) code(6)"], "123456789"), Vec::<String>::new());
        assert_eq!(shown(&["password pin(4) code(6)"], "kelp4321987654"), ["0:kelp|4321|987654|-"]);
        assert_eq!(shown(&["password ' ' factor", "password"], "kelp Mail"), ["0:kelp|-|-|mail", "1:kelp Mail|-|-|-"]);
        assert_eq!(shown(&["factor ':' password"], "approve:kelp"), ["0:kelp|-|-|approve"]);
        assert_eq!(shown(&["code(6)"], "1234567"), Vec::<String>::new());
        assert_eq!(forms(&["password ',' code(6)"])[0].compose("kelp", "123456").as_deref(), Some("kelp,123456"));
        assert_eq!(forms(&["password code(6)"])[0].compose("kelp", "12345678"), None);
    }

    #[test]
    fn every_mistake_in_a_pattern_is_named_with_its_place() {
        let errors = Form::parse("pasword code(5) 'x").unwrap_err();
        let seen: Vec<_> = errors.iter().map(|error| error.span.clone()).collect();
        assert_eq!(seen, [0..7, 8..15, 16..18]);
        for (pattern, said) in [
            ("password password", "twice"),
            ("code(6) code(6)", "one code"),
            ("pin(4)", "no code"),
            ("code(6) pin(4)", "before the code"),
            ("pin(3) code(6)", "4 to 12 digits"),
            ("code(8..6)", "6 to 10 digits"),
            ("password code(6) factor", "not both"),
            ("factor", "nothing to check"),
            ("','", "nothing to check"),
            ("", "nothing to check"),
        ] {
            let errors = Form::parse(pattern).unwrap_err();
            assert!(errors.iter().any(|error| error.message.contains(said)), "{pattern}: {errors:?}");
        }
    }

    proptest! {
        #[test]
        fn readings_cover_the_text_without_gaps(text in "\\PC{0,40}") {
            let forms = forms(&["password code(6..8)", "pin(4..6) code(7) password", "code(6)", "password"]);
            for reading in readings(&forms, &spelt(), &text) {
                let length = |range: &Option<Range<usize>>| range.as_ref().map_or(0, |range| text.get(range.clone()).unwrap().len());
                prop_assert_eq!(length(&reading.password) + length(&reading.pin) + length(&reading.code), text.len());
                for digits in [reading.pin, reading.code].into_iter().flatten() {
                    prop_assert!(text[digits].bytes().all(|b| b.is_ascii_digit()));
                }
            }
        }

        #[test]
        fn any_pattern_gives_a_form_that_prints_as_itself_or_errors_inside_it(pattern in "(password |code|pin|factor |[(]6|[.][.]8|[)] |','|[a-z0-9()', ]){0,8}") {
            match Form::parse(&pattern) {
                Ok(form) => prop_assert_eq!(Form::parse(&form.to_string()).unwrap(), form),
                Err(errors) => for error in errors { prop_assert!(error.span.end <= pattern.len()) },
            }
        }

        #[test]
        fn what_is_composed_is_read_back(password in "[a-z0-9,]{0,12}", code in "[0-9]{6,8}") {
            let form = Form::parse("password ',' code(6..8)").unwrap();
            let text = form.compose(&password, &code).unwrap();
            let found = readings(&[form], &[], &text);
            prop_assert!(found.iter().any(|r| text[r.password.clone().unwrap()] == password && text[r.code.clone().unwrap()] == code));
        }
    }
}
