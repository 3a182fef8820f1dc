//! What goes with what: method, source, form and second factor. The one place that knows; the check of a site, the login and the
//! page about methods in the docs all ask here.

use crate::{Chain, Directory, FactorKind, Method, Site, SourceRef};
use bivector_model::form::Form;
use bivector_wire::eap::{EapMethod, Proves};
use std::fmt::Write;

/// What a source can do with a credential.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Skill {
    /// It says yes or no to a password: a directory.
    Checks,
    /// It shows the NT hash too: a directory with `attributes.nt_hash`.
    ShowsNtHash,
    /// The roster: it depends on how a person's password is kept.
    Roster,
    /// It gets the login as it came: an upstream.
    Upstream,
    /// Nobody here checks a password: the gateway has done so, the chain is `code_only`.
    Gateway,
}

/// What a form has places for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Shape {
    /// `password`
    Password,
    /// `password code(6)`
    PasswordCode,
    /// `password pin(4) code(6)`
    PasswordPinCode,
    /// `password ' ' factor`
    PasswordFactor,
    /// `code(6)`
    Code,
    /// `pin(4) code(6)`
    PinCode,
}

/// What the second proof is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Second {
    /// None is asked for.
    None,
    /// A code of the person's own devices or lists.
    Code,
    /// A code that a courier brings.
    Courier,
    /// A code that an upstream checks.
    Upstream,
    /// An approval on the person's handset.
    Handset,
}

/// One way of logging in.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub struct Way {
    /// How the credential comes.
    pub method: Method,
    /// Who makes the first check.
    pub skill: Skill,
    /// How the password field is read.
    pub shape: Shape,
    /// What is asked for besides.
    pub second: Second,
    /// Whether the gateway shows prompts.
    pub prompts: bool,
}

/// Why a way cannot work.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Never {
    /// The reason.
    pub why: &'static str,
    /// What would help: one of these.
    pub remedies: &'static [&'static str],
}

/// How a way works, or why it never does.
pub type Fit = Result<&'static str, Never>;

impl Skill {
    /// All of them.
    pub const ALL: &[Skill] = &[Skill::Checks, Skill::ShowsNtHash, Skill::Roster, Skill::Upstream, Skill::Gateway];

    /// Of a source in a chain.
    pub fn of(chain: &Chain, source: SourceRef, nt_hash: impl Fn(usize) -> bool) -> Self {
        match source {
            _ if chain.code_only => Skill::Gateway,
            SourceRef::Directory(index) if nt_hash(index) => Skill::ShowsNtHash,
            SourceRef::Directory(_) => Skill::Checks,
            SourceRef::Roster => Skill::Roster,
            SourceRef::Upstream(_) => Skill::Upstream,
        }
    }

    /// Of a source in a chain of a site.
    pub fn in_site(site: &Site, chain: &Chain, source: SourceRef) -> Self {
        Skill::of(chain, source, |index| site.directories.get(index).is_some_and(shows_nt_hash))
    }

    fn words(self) -> &'static str {
        match self {
            Skill::Checks => "directory",
            Skill::ShowsNtHash => "directory with readable NT hashes",
            Skill::Roster => "roster",
            Skill::Upstream => "upstream",
            Skill::Gateway => "the gateway itself (`code_only`: Bivector checks the code only)",
        }
    }
}

/// Whether a directory is read for NT hashes.
pub(crate) fn shows_nt_hash(directory: &Directory) -> bool {
    directory.attributes.nt_hash.is_some()
}

impl Shape {
    /// All of them.
    pub const ALL: &[Shape] =
        &[Shape::Password, Shape::PasswordCode, Shape::PasswordPinCode, Shape::PasswordFactor, Shape::Code, Shape::PinCode];

    /// Of a form.
    pub fn of(form: &Form) -> Self {
        match (form.has_password(), form.has_pin(), form.has_code(), form.has_factor()) {
            (true, true, ..) => Shape::PasswordPinCode,
            (true, false, true, _) => Shape::PasswordCode,
            (true, _, _, true) => Shape::PasswordFactor,
            (true, ..) => Shape::Password,
            (false, true, ..) => Shape::PinCode,
            (false, ..) => Shape::Code,
        }
    }

    fn has_password(self) -> bool {
        !matches!(self, Shape::Code | Shape::PinCode)
    }

    fn has_code(self) -> bool {
        matches!(self, Shape::PasswordCode | Shape::PasswordPinCode | Shape::Code | Shape::PinCode)
    }

    fn words(self) -> &'static str {
        match self {
            Shape::Password => "`password`",
            Shape::PasswordCode => "`password code(6)`",
            Shape::PasswordPinCode => "`password pin(4) code(6)`",
            Shape::PasswordFactor => "`password ' ' factor`",
            Shape::Code => "`code(6)`",
            Shape::PinCode => "`pin(4) code(6)`",
        }
    }
}

impl Second {
    /// All of them.
    pub const ALL: &[Second] = &[Second::None, Second::Code, Second::Courier, Second::Upstream, Second::Handset];

    /// Of a factor.
    pub fn of(kind: FactorKind) -> Self {
        match kind {
            FactorKind::Code(_) => Second::Code,
            FactorKind::Courier(_) => Second::Courier,
            FactorKind::Upstream(_) => Second::Upstream,
            FactorKind::Approval | FactorKind::Key => Second::Handset,
        }
    }

    fn words(self) -> &'static str {
        match self {
            Second::None => "none",
            Second::Code => "code from a token or list",
            Second::Courier => "code sent by courier",
            Second::Upstream => "code checked by an upstream",
            Second::Handset => "approval on the handset",
        }
    }
}

/// Whether the first check works with a method.
pub fn first(method: Method, skill: Skill) -> Fit {
    const TEXT: &[&str] =
        &["switch the gateway to PAP", "use an upstream for the first check", "store these people's passwords as text in the roster"];
    const HASH: &[&str] = &[
        "switch the gateway to PAP",
        "use an upstream for the first check",
        "set `attributes.nt_hash` of the directory to the attribute that holds the NT hash",
        "store the passwords in the roster in clear text or as NT hashes",
    ];
    const INNER: &[&str] = &["use an upstream for the first check", "switch the gateway to PAP"];
    const NAMED: &[&str] = &["use a directory or the roster for the first check", "use a method with a password"];
    if let Method::EapOf(inside) = method {
        return match (inside.proves(), skill) {
            (Proves::Text, Skill::Upstream) => Ok("the text arrives here; the upstream gets it as PAP"),
            (Proves::Text, Skill::Gateway) => Ok("the text is a code; the gateway has checked the password"),
            (Proves::Text, _) => Ok("the text arrives here, so every source can check it"),
            (Proves::Chap, Skill::Upstream) => Ok("the upstream gets the response as CHAP"),
            (Proves::Chap, _) => first(Method::Chap, skill),
            (Proves::MsChapV2, Skill::Upstream) => Err(Never {
                why: "the peer expects the server's own proof of the password inside EAP, and an upstream cannot give one for it",
                remedies: &["use `eap` to forward the whole conversation", "use a method with a text, such as `eap-ttls-pap`"],
            }),
            (Proves::MsChapV2, _) => first(Method::MsChapV2, skill),
            (Proves::Certificate, Skill::Upstream) => {
                Err(Never { why: "a certificate proves nothing to an upstream; it needs a password", remedies: NAMED })
            }
            (Proves::Certificate, Skill::Gateway) => Err(Never {
                why: "the chain is `code_only`, and a certificate is no code",
                remedies: &["remove `code_only`", "use a method with a text"],
            }),
            (Proves::Certificate, _) => Ok("the certificate is the first check; the source says who the person is"),
        };
    }
    match (method, skill) {
        (Method::EapOf(_), _) => Ok("handled above"),
        (Method::Pap, Skill::Gateway) => Ok("the text is a code; the gateway has checked the password"),
        (Method::Pap, _) => Ok("PAP sends the password, so every source can check it"),
        (_, Skill::Upstream) => Ok("forwarded unchanged"),
        (Method::Chap, Skill::Roster) => Ok("for people whose password is kept as text"),
        (Method::Chap, Skill::Gateway) => Ok("each currently valid code is tried against the response"),
        (Method::Chap, Skill::Checks) => {
            Err(Never { why: "CHAP never sends the password, and this directory can only check a password by a bind", remedies: TEXT })
        }
        (Method::Chap, Skill::ShowsNtHash) => {
            Err(Never { why: "CHAP needs the password in clear text, and this directory provides only its NT hash", remedies: TEXT })
        }
        (Method::MsChapV2, Skill::ShowsNtHash) => Ok("checked against the NT hash from the directory"),
        (Method::MsChapV2, Skill::Roster) => Ok("for people whose password is kept as text or as NT hash"),
        (Method::MsChapV2, Skill::Gateway) => Ok("each currently valid code is tried against the response"),
        (Method::MsChapV2, Skill::Checks) => {
            Err(Never { why: "MS-CHAPv2 never sends the password, and this directory can only check a password by a bind", remedies: HASH })
        }
        (Method::Eap, _) => Err(Never { why: "EAP is not terminated here; only an upstream can terminate it", remedies: INNER }),
    }
}

/// Whether a form can be read from what a method tells.
pub fn reading(method: Method, skill: Skill, shape: Shape) -> Fit {
    const PROMPT: &[&str] =
        &["use a prompt for the code: set `shows_challenges = true` for a gateway that supports it", "switch the gateway to PAP"];
    const WITHOUT_PASSWORD: &[&str] = &["add `password` to the form", "set `code_only = true` if the gateway checks the password itself"];
    if skill == Skill::Gateway && shape.has_password() {
        let why = "the chain is `code_only`, so the password in this form would not be checked";
        return Err(Never { why, remedies: &["remove `password` from the form", "remove `code_only`"] });
    }
    if skill != Skill::Gateway && !shape.has_password() {
        return Err(Never { why: "the form contains no password, but the source needs one", remedies: WITHOUT_PASSWORD });
    }
    let method = match method.proves() {
        Some(Proves::Text) => Method::Pap,
        Some(Proves::Chap) => Method::Chap,
        Some(Proves::MsChapV2) => Method::MsChapV2,
        Some(Proves::Certificate) if shape == Shape::Password => return Ok("nothing is typed; the form is not used"),
        Some(Proves::Certificate) => {
            let remedies = &["use EAP-TTLS with `certificate = \"required\"` to have both", "add `approval` to `second`"];
            return Err(Never { why: "the method sends a certificate and no text, so there is nothing to read", remedies });
        }
        None => Method::Eap,
    };
    match (method, skill, shape) {
        (Method::Pap, ..) => Ok("read from the text"),
        (_, _, Shape::PasswordFactor) => {
            Err(Never { why: "the method does not send the text, so no factor word can be read", remedies: PROMPT })
        }
        (_, _, Shape::PasswordPinCode | Shape::PinCode) => Err(Never {
            why: "the method does not send the text, and the PIN is stored only as a hash, so it cannot be verified",
            remedies: PROMPT,
        }),
        (_, _, Shape::Password) => Ok("the response covers the password alone"),
        (_, Skill::Upstream, _) => Err(Never {
            why: "the response is forwarded to the upstream unchanged, and a code cannot be separated from it",
            remedies: PROMPT,
        }),
        (_, Skill::ShowsNtHash, _) => {
            Err(Never { why: "the NT hash covers the password alone, and a code cannot be appended to a hash", remedies: PROMPT })
        }
        (Method::Chap | Method::MsChapV2, Skill::Roster, _) => {
            Ok("each valid code is tried appended to the password; for people whose password is stored as text")
        }
        (Method::Chap | Method::MsChapV2, Skill::Gateway, _) => Ok("each live code is tried"),
        (_, Skill::Checks, _) | (Method::Eap | Method::EapOf(_), ..) => Err(Never {
            why: "the method does not send the text, and neither the password nor the code is known here to verify it",
            remedies: PROMPT,
        }),
    }
}

/// Whether a second proof can be had once the form is read.
pub fn second(method: Method, shape: Shape, second: Second, prompts: bool) -> Fit {
    const PROMPTS: &[&str] =
        &["set `shows_challenges = true` if the gateway supports prompts", "add a form with a code, such as `password code(6)`"];
    const ONLY_PROMPTS: &[&str] = &["set `shows_challenges = true` if the gateway supports prompts", "remove the factor from `second`"];
    let prompts = method.prompts(prompts);
    let inside = method.eap().is_some_and(|inside| !inside.prompts());
    let asked = |how: &'static str, remedies, why| match (prompts, inside) {
        (true, _) => Ok(how),
        (false, true) => Err(without_prompt(method)),
        (false, false) => Err(Never { why, remedies }),
    };
    if method == Method::Eap && second != Second::None {
        let why = "EAP ends with its own success message, and no prompt can follow it";
        return Err(Never {
            why,
            remedies: &["let the upstream handle the second factor and set `second = []`", "switch the gateway to PAP"],
        });
    }
    match (second, shape) {
        (Second::None, shape) if shape.has_code() || shape == Shape::PasswordFactor => {
            let remedies = &["set `second = [\"totp\"]`", "remove the form"];
            Err(Never { why: "the form has a code or a factor word, but the chain has no second factor, so nothing checks it", remedies })
        }
        (Second::None, _) => Ok("none required"),
        (Second::Code, shape) if shape.has_code() => Ok("the code in the field"),
        (Second::Upstream, shape) if shape.has_code() && method.gives_text() => Ok("the code in the field goes to the upstream"),
        (Second::Code | Second::Upstream, Shape::PasswordFactor) => Err(Never {
            why: "a factor word can select only a courier or an approval, and this factor is neither",
            remedies: &["add a courier or `approval` to `second`", "remove the form"],
        }),
        (Second::Code, _) => {
            asked("asked for at a prompt", PROMPTS, "no form has a place for the code, and the gateway cannot show a prompt for it")
        }
        (Second::Upstream, shape) if shape.has_code() => Err(Never {
            why: "the method does not send the text, so the code cannot be extracted for the upstream",
            remedies: ONLY_PROMPTS,
        }),
        (Second::Upstream, _) => asked(
            "asked for at a prompt, then passed to the upstream",
            PROMPTS,
            "no form has a place for the code, and the gateway cannot show a prompt for it",
        ),
        (Second::Handset, Shape::PasswordFactor) => Ok("the factor word requests an approval"),
        (Second::Handset, _) => Ok("approval requested on the handset if no code was entered"),
        (Second::Courier, Shape::PasswordFactor) => asked(
            "sent by the word's courier, then asked for at a prompt",
            ONLY_PROMPTS,
            "a sent code must be entered at a prompt, and the gateway shows none",
        ),
        (Second::Courier, _) => {
            asked("sent, then asked for at a prompt", ONLY_PROMPTS, "a sent code must be entered at a prompt, and the gateway shows none")
        }
    }
}

/// Why a further text cannot be asked for inside EAP.
fn without_prompt(method: Method) -> Never {
    match method.eap().map(EapMethod::proves) {
        Some(Proves::Text) => Never {
            why: "the method ends after one text, and no form has a place for the code",
            remedies: &[
                "add a form with a code, such as `password code(6)`",
                "use `eap-ttls-gtc`, `eap-peap-gtc` or `eap-gtc`, which can ask for it",
                "add `approval` to `second`",
            ],
        },
        _ => Never {
            why: "the method cannot ask for a code after its own exchange",
            remedies: &["add `approval` to `second`", "use a method with a text, such as `eap-ttls-gtc`"],
        },
    }
}

/// Whether a whole way works: how, or the first reason why it never does.
pub fn fits(way: Way) -> Fit {
    let how = first(way.method, way.skill)?;
    reading(way.method, way.skill, way.shape)?;
    second(way.method, way.shape, way.second, way.prompts)?;
    Ok(how)
}

/// The ways of a chain: by each of its methods, sources, forms and factors, at gateways that show prompts or do not.
pub(crate) fn ways(chain: &Chain, nt_hash: &dyn Fn(usize) -> bool, prompts: bool) -> Vec<Way> {
    let shapes: Vec<Shape> = if chain.forms.is_empty() { vec![Shape::Password] } else { chain.forms.iter().map(Shape::of).collect() };
    let seconds: Vec<Second> =
        if chain.second.is_empty() { vec![Second::None] } else { chain.second.iter().map(|kind| Second::of(*kind)).collect() };
    let mut all = Vec::new();
    for method in &chain.methods {
        for source in &chain.first {
            for shape in &shapes {
                for second in &seconds {
                    let skill = Skill::of(chain, source.source, nt_hash);
                    all.push(Way { method: *method, skill, shape: *shape, second: *second, prompts });
                }
            }
        }
    }
    all
}

/// The page of the docs that says what goes with what.
pub fn methods_markdown() -> String {
    let mut page = String::from(
        "# Methods, sources, forms and factors\n\nWritten by `bivector site methods`; do not edit by hand. The check of a site, the login and this page ask the same table.\n\
         ✓ works, – never does; the notes say how and why.\n",
    );
    let mut notes: Vec<&'static str> = Vec::new();
    let mut cell = |fit: Fit| {
        let (sign, said) = match fit {
            Ok(how) => ("✓", how),
            Err(never) => ("–", never.why),
        };
        let at = notes.iter().position(|note| *note == said).unwrap_or_else(|| {
            notes.push(said);
            notes.len() - 1
        });
        format!("{sign} {}", at + 1)
    };
    let table = |page: &mut String, title: &str, corner: &str, columns: &[String], row: &mut dyn FnMut(Method) -> Vec<String>| {
        let _ = write!(page, "\n## {title}\n\n| {corner} | {} |\n|{}\n", columns.join(" | "), " --- |".repeat(columns.len() + 1));
        for method in Method::ALL {
            let _ = writeln!(page, "| `{}` | {} |", method.name(), row(*method).join(" | "));
        }
    };
    let skills: Vec<String> = Skill::ALL.iter().map(|skill| skill.words().to_owned()).collect();
    table(&mut page, "Sources that can perform the first check", "method", &skills, &mut |method| {
        Skill::ALL.iter().map(|skill| cell(first(method, *skill))).collect()
    });
    for skill in Skill::ALL {
        let shapes: Vec<Shape> = Shape::ALL.iter().copied().filter(|shape| shape.has_password() != (*skill == Skill::Gateway)).collect();
        let columns: Vec<String> = shapes.iter().map(|shape| shape.words().to_owned()).collect();
        table(&mut page, &format!("How the password field can be parsed: {}", skill.words()), "method", &columns, &mut |method| {
            let fit = |shape: &Shape| first(method, *skill).and_then(|_| reading(method, *skill, *shape));
            shapes.iter().map(|shape| cell(fit(shape))).collect()
        });
    }
    for prompts in [false, true] {
        let title = format!("Second factors on gateways {}", if prompts { "with prompts" } else { "without prompts" });
        let columns: Vec<String> = Second::ALL
            .iter()
            .flat_map(|second| [Shape::Password, Shape::PasswordCode].map(|shape| format!("{}, {}", second.words(), shape.words())))
            .collect();
        table(&mut page, &title, "method", &columns, &mut |method| {
            let fits = Second::ALL
                .iter()
                .flat_map(|kind| [Shape::Password, Shape::PasswordCode].map(|shape| second(method, shape, *kind, prompts)));
            fits.map(&mut cell).collect()
        });
    }
    page.push_str("\n## Notes\n\n");
    for (at, note) in notes.iter().enumerate() {
        let _ = writeln!(page, "{}. {note}", at + 1);
    }
    page
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Written from the standards and the product's promises, not from the code above: one line a rule, the first that fits decides.
    /// Method, source, form, factor, prompts; `*` fits all, `a|b` fits either.
    const TABLE: &str = "
        eap-tls  upstream|gateway *               *                      *    no
        eap-tls  *                !password       *                      *    no
        eap-tls  *                *               none|handset           *    yes
        eap-tls  *                *               *                      *    no
        eap-mschapv2|eap-ttls-mschapv2|eap-ttls-eap-mschapv2|eap-peap-mschapv2  upstream  *  *  *  no
        eap  *                 *                 code|courier|upstream|handset  *    no
        eap  upstream          password          none                   *    yes
        eap  *                 *                 *                      *    no
        *    !gateway          code|pin-code     *                      *    no
        *    gateway           !code|pin-code    *                      *    no
        *    *                 !password         none                   *    no
        chap        directory|nt-directory   *   *                      *    no
        ms-chap-v2  directory         *          *                      *    no
        pap  *                 *                 handset                *    yes
        pap  *                 password-factor   code|upstream          *    no
        pap  *                 *                 courier                no   no
        pap  *                 *                 courier                yes  yes
        pap  *                 password-code|password-pin-code|code|pin-code  code|upstream  *  yes
        pap  *                 password          none                   *    yes
        pap  *                 password          code|upstream          no   no
        pap  *                 password          code|upstream          yes  yes
        *    *                 password-factor|password-pin-code|pin-code  *  *  no
        *    upstream|nt-directory  password-code  *                    *    no
        *    *                 *                 handset                *    yes
        *    *                 password-code|code  code                 *    yes
        *    *                 password-code|code  upstream             *    no
        *    *                 password          none                   *    yes
        *    *                 *                 *                      yes  yes
        *    *                 *                 *                      no   no
    ";

    fn by_table(way: Way) -> bool {
        let skill = match way.skill {
            Skill::Checks => "directory",
            Skill::ShowsNtHash => "nt-directory",
            Skill::Roster => "roster",
            Skill::Upstream => "upstream",
            Skill::Gateway => "gateway",
        };
        let shape = match way.shape {
            Shape::Password => "password",
            Shape::PasswordCode => "password-code",
            Shape::PasswordPinCode => "password-pin-code",
            Shape::PasswordFactor => "password-factor",
            Shape::Code => "code",
            Shape::PinCode => "pin-code",
        };
        let second = format!("{:?}", way.second).to_lowercase();
        let name = if way.method.name() == "eap-peap-tls" { "eap-tls" } else { way.method.name() };
        let seen = [name, skill, shape, &second, if way.prompts { "yes" } else { "no" }];
        let fits = |pattern: &str, value: &str| match pattern.strip_prefix('!') {
            Some(not) => !not.split('|').any(|one| one == value),
            None => pattern == "*" || pattern.split('|').any(|one| one == value),
        };
        let rows = TABLE.lines().map(|line| line.split_whitespace().collect::<Vec<_>>()).filter(|row| row.len() == 6);
        // Inside EAP, the method says whether a prompt can be shown; what it yields is as with the plain method.
        let (plain, prompts) = match way.method.name() {
            "eap-gtc" | "eap-ttls-gtc" | "eap-peap-gtc" => ("pap", "yes"),
            "eap-ttls-pap" => ("pap", "no"),
            "eap-md5" | "eap-ttls-chap" | "eap-ttls-eap-md5" => ("chap", "no"),
            "eap-mschapv2" | "eap-ttls-mschapv2" | "eap-ttls-eap-mschapv2" | "eap-peap-mschapv2" => ("ms-chap-v2", "no"),
            other => (other, seen[4]),
        };
        let as_plain = [plain, seen[1], seen[2], seen[3], prompts];
        let matches = |row: &[&str], seen: &[&str]| row.iter().zip(seen).all(|(pattern, value)| fits(pattern, value));
        let rows: Vec<_> = rows.collect();
        let own = rows.iter().find(|row| row[0].starts_with("eap-") && matches(row, &seen));
        let row = own.or_else(|| rows.iter().find(|row| matches(row, &as_plain))).unwrap();
        row[5] == "yes"
    }

    #[test]
    fn every_way_comes_out_as_the_table_says_that_was_written_without_the_code() {
        let mut counted = 0;
        for method in Method::ALL {
            for skill in Skill::ALL {
                for shape in Shape::ALL {
                    for second in Second::ALL {
                        for prompts in [false, true] {
                            let way = Way { method: *method, skill: *skill, shape: *shape, second: *second, prompts };
                            assert_eq!(fits(way).is_ok(), by_table(way), "{way:?}: {:?}", fits(way));
                            counted += 1;
                        }
                    }
                }
            }
        }
        assert_eq!(counted, (4 + 13) * 5 * 6 * 5 * 2);
    }

    #[test]
    fn whatever_never_works_says_why_and_what_would_help() {
        for method in Method::ALL {
            for skill in Skill::ALL {
                if let Err(never) = first(*method, *skill) {
                    assert!(!never.why.ends_with('.') && never.remedies.len() >= 2, "{never:?}");
                }
            }
        }
        let page = methods_markdown();
        assert!(page.contains("| `ms-chap-v2` |") && page.contains("can only check a password by a bind"));
    }
}
