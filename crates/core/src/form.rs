//! How the password field is read. A form is a small pattern; trying all forms of a chain on a text gives its readings.

use std::fmt;
use std::ops::Range;
use thiserror::Error;

/// The longest pattern that is read, in bytes.
const MAX_PATTERN: usize = 200;

/// One field of a form.
#[derive(Debug, Clone, PartialEq, Eq)]
enum Field {
    Password,
    Code(u8),
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

/// One way to read a text: which part is the password and which the code, as byte ranges.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Reading {
    /// The form's place in the chain's list.
    pub form: usize,
    /// Where the password stands.
    pub password: Range<usize>,
    /// Where the code stands, if the form has one.
    pub code: Option<Range<usize>>,
}

impl Form {
    /// Reads a pattern.
    ///
    /// # Errors
    /// All that is wrong with it, each with its place.
    pub fn parse(pattern: &str) -> Result<Self, Vec<FormError>> {
        if pattern.len() > MAX_PATTERN {
            return Err(vec![error(0..pattern.len(), format!("a form has at most {MAX_PATTERN} bytes"))]);
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

    /// Whether it asks for a code.
    pub fn has_code(&self) -> bool {
        self.fields.iter().any(|field| matches!(field, Field::Code(_)))
    }

    /// What somebody would type by it, with made-up parts.
    pub fn example(&self) -> String {
        let part = |field: &Field| match field {
            Field::Password => "tide-and-time".to_owned(),
            Field::Code(digits) => "123456789".chars().take(usize::from(*digits)).collect(),
            Field::Literal(text) => text.clone(),
        };
        self.fields.iter().map(part).collect()
    }

    /// Reads a text by this form: the parts, or nothing where it does not fit.
    fn read(&self, index: usize, text: &str) -> Option<Reading> {
        let fixed: usize = self.fields.iter().map(Field::fixed_length).sum();
        let free = text.len().checked_sub(fixed)?;
        let mut reading = Reading { form: index, password: 0..0, code: None };
        let mut at = 0;
        for field in &self.fields {
            let end = at + if *field == Field::Password { free } else { field.fixed_length() };
            let part = text.get(at..end)?;
            match field {
                Field::Password => reading.password = at..end,
                Field::Code(_) if part.bytes().all(|byte| byte.is_ascii_digit()) => reading.code = Some(at..end),
                Field::Literal(literal) if part == literal => {}
                _ => return None,
            }
            at = end;
        }
        Some(reading)
    }
}

/// All readings of a text, in the order in which the chain prefers its forms.
pub fn readings(forms: &[Form], text: &str) -> Vec<Reading> {
    forms.iter().enumerate().filter_map(|(index, form)| form.read(index, text)).collect()
}

impl Field {
    fn fixed_length(&self) -> usize {
        match self {
            Field::Password => 0,
            Field::Code(digits) => usize::from(*digits),
            Field::Literal(text) => text.len(),
        }
    }
}

impl fmt::Display for Form {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (index, field) in self.fields.iter().enumerate() {
            let gap = if index == 0 { "" } else { " " };
            match field {
                Field::Password => write!(f, "{gap}password")?,
                Field::Code(digits) => write!(f, "{gap}code({digits})")?,
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
    if word == "password" {
        return Ok(Field::Password);
    }
    if let Some(literal) = word.strip_prefix('\'') {
        return match literal.strip_suffix('\'') {
            Some(text) if !text.is_empty() && !text.contains('\'') => Ok(Field::Literal(text.to_owned())),
            _ => Err(format!("{word} is no literal; write it between single quotes, like ','")),
        };
    }
    if let Some(digits) = word.strip_prefix("code(").and_then(|rest| rest.strip_suffix(')')) {
        return match digits.parse() {
            Ok(digits @ 6..=8) => Ok(Field::Code(digits)),
            _ => Err(format!("`{word}`: a code has 6, 7 or 8 digits, written like `code(6)`")),
        };
    }
    Err(format!("`{word}` is no field; this version reads `password`, `code(6)` to `code(8)`, and literals like ','"))
}

fn shape_errors(pattern: &str, fields: &[(Range<usize>, Field)], all_read: bool) -> Vec<FormError> {
    let mut errors = Vec::new();
    let mut repeated = |is: fn(&Field) -> bool, message: &str| {
        errors.extend(fields.iter().filter(|(_, field)| is(field)).skip(1).map(|(span, _)| error(span.clone(), message.to_owned())));
    };
    repeated(|field| *field == Field::Password, "`password` stands twice; only one field may have no fixed length");
    repeated(|field| matches!(field, Field::Code(_)), "a form has one code at most");
    if all_read && !fields.iter().any(|(_, field)| *field == Field::Password) {
        errors.push(error(0..pattern.len(), "the form has no `password`; this version always checks one".to_owned()));
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

    #[test]
    fn each_form_gives_at_most_one_reading_in_the_order_of_preference() {
        let forms = forms(&["password code(6)", "code(6) password", "password ',' code(6)", "password"]);
        let cases = [
            ("tide123456", vec![(0, "tide", "123456"), (3, "tide123456", "")]),
            ("123456tide", vec![(1, "tide", "123456"), (3, "123456tide", "")]),
            ("a,123456", vec![(0, "a,", "123456"), (2, "a", "123456"), (3, "a,123456", "")]),
            ("123456", vec![(0, "", "123456"), (1, "", "123456"), (3, "123456", "")]),
            ("Strömung", vec![(3, "Strömung", "")]),
            ("", vec![(3, "", "")]),
        ];
        for (text, wanted) in cases {
            let seen: Vec<_> = readings(&forms, text)
                .into_iter()
                .map(|reading| (reading.form, &text[reading.password], reading.code.map_or("", |code| &text[code])))
                .collect();
            assert_eq!(seen, wanted, "{text}");
        }
    }

    #[test]
    fn every_mistake_in_a_pattern_is_named_with_its_place() {
        let errors = Form::parse("pasword code(5) 'x").unwrap_err();
        let seen: Vec<_> = errors.iter().map(|error| error.span.clone()).collect();
        assert_eq!(seen, [0..7, 8..15, 16..18]);
        assert!(Form::parse("password password").unwrap_err()[0].message.contains("twice"));
        assert!(Form::parse("code(6)").unwrap_err()[0].message.contains("no `password`"));
        assert!(Form::parse("").is_err());
    }

    proptest! {
        #[test]
        fn readings_cover_the_text_without_gaps(text in "\\PC{0,40}") {
            for reading in readings(&forms(&["password code(6)", "code(7) password", "password"]), &text) {
                let code = reading.code.clone().unwrap_or(reading.password.end..reading.password.end);
                prop_assert_eq!(reading.password.len() + code.len(), text.len());
                prop_assert!(text.get(reading.password).is_some() && text[code].bytes().all(|b| b.is_ascii_digit()));
            }
        }

        #[test]
        fn any_pattern_gives_a_form_that_prints_as_itself_or_errors_inside_it(pattern in "[a-z0-9()', ]{0,30}") {
            match Form::parse(&pattern) {
                Ok(form) => prop_assert_eq!(Form::parse(&form.to_string()).unwrap(), form),
                Err(errors) => for error in errors { prop_assert!(error.span.end <= pattern.len()) },
            }
        }
    }
}
