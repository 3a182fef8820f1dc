//! What people read at prompts and in messages: texts in the site's languages, each with its places to fill in.

use std::collections::BTreeMap;

/// The language that everything is written in, should a text be missing elsewhere.
const LAST_RESORT: usize = 0;

macro_rules! texts {
    ($($variant:ident $key:literal [$($place:literal),*] $english:literal $german:literal $french:literal;)*) => {
        /// A text that people read.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
        pub enum Text {
            $(#[doc = $english] $variant,)*
        }

        impl Text {
            /// All of them.
            pub const ALL: &[Text] = &[$(Text::$variant),*];

            /// Its key in site files.
            pub fn key(self) -> &'static str {
                match self { $(Text::$variant => $key,)* }
            }

            /// What it has places for.
            pub fn places(self) -> &'static [&'static str] {
                match self { $(Text::$variant => &[$($place),*],)* }
            }

            /// As it ships, in the order of [`SHIPPED`].
            fn shipped(self) -> [&'static str; 3] {
                match self { $(Text::$variant => [$english, $german, $french],)* }
            }
        }
    };
}

/// The languages that ship, by their tags (RFC 5646).
pub const SHIPPED: [&str; 3] = ["en", "de", "fr"];

texts! {
    Code "code" ["devices"] "Enter the code from {devices}:" "Code von {devices}:" "Code de {devices} :";
    PinCode "pin_code" ["devices"] "Enter your PIN followed by the code from {devices}:" "PIN und Code von {devices}, hintereinander:" "PIN puis code de {devices}, à la suite :";
    NextCode "next_code" ["devices"] "Almost. Wait for the next code from {devices} and enter it:" "Fast. Bitte warten und den nächsten Code von {devices} eingeben:" "Presque. Attendez, puis tapez le code suivant de {devices} :";
    UpstreamCode "upstream_code" ["upstream"] "Enter your code for {upstream}:" "Code für {upstream}:" "Code pour {upstream} :";
    Sent "sent" ["to"] "We sent a code to {to}. Enter it here:" "Ein Code ging an {to}. Code:" "Un code a été envoyé à {to}. Code :";
    Choose "choose" ["list"] "Enter a code, or the number of an option:\n{list}" "Code eingeben oder die Nummer der Wahl:\n{list}" "Tapez un code, ou le numéro de votre choix :\n{list}";
    ChooseSending "choose_sending" ["list"] "Enter the number of an option:\n{list}" "Nummer der Wahl eingeben:\n{list}" "Tapez le numéro de votre choix :\n{list}";
    OptionCode "option_code" ["devices"] "code from {devices}" "Code von {devices}" "code de {devices}";
    OptionText "option_text" ["to"] "text message to {to}" "Kurznachricht an {to}" "message au {to}";
    OptionCall "option_call" ["to"] "call to {to}" "Anruf bei {to}" "appel au {to}";
    OptionMail "option_mail" ["to"] "email to {to}" "E-Mail an {to}" "courriel à {to}";
    OptionUpstream "option_upstream" ["upstream"] "code for {upstream}" "Code für {upstream}" "code pour {upstream}";
    Number "number" ["number"] "Choose {number} on your phone, then continue here without entering anything." "Auf dem Telefon {number} wählen, dann hier ohne Eingabe weiter." "Choisissez {number} sur votre téléphone, puis continuez ici sans rien taper.";
    OptionApproval "option_approval" [] "approve on your phone" "auf dem Telefon bestätigen" "approuver sur votre téléphone";
    OptionKey "option_key" [] "use your security key on your phone" "Sicherheitsschlüssel am Telefon berühren" "toucher votre clé de sécurité sur le téléphone";
    Unanswered "unanswered" [] "There was no answer from your phone." "Auf dem Telefon hat niemand geantwortet." "Personne n'a répondu sur votre téléphone.";
    Enrol "enrol" ["key", "site"] "You have no second factor yet. In your authenticator app, add an account with this key: {key} Then enter the code it shows for {site}:" "Noch kein zweiter Faktor. In der Authenticator-App ein Konto mit diesem Schlüssel anlegen: {key} Dann den Code eingeben, den sie für {site} zeigt:" "Vous n'avez pas encore de second facteur. Ajoutez un compte avec cette clé à votre application : {key} Puis tapez le code qu'elle affiche pour {site} :";
    Invitation "invitation" ["name", "site", "link", "code", "hours"] "{name}, set up your second factor for {site}:\n{link}\nInvitation code {code}. Valid for {hours} hours, for one use." "{name}, richten Sie Ihren zweiten Faktor für {site} ein:\n{link}\nEinladung {code}, {hours} Stunden lang, einmal." "{name}, configurez votre second facteur pour {site} :\n{link}\nInvitation {code}, pendant {hours} heures, une fois.";
    InvitationSubject "invitation_subject" ["site"] "Your invitation from {site}" "Ihre Einladung von {site}" "Votre invitation de {site}";
    Wrong "wrong" [] "That was not correct." "Das war nicht richtig." "Ce n'était pas correct.";
    NotSent "not_sent" [] "The code could not be sent." "Der Versand ist nicht gelungen." "L'envoi n'a pas abouti.";
    NoMore "no_more" [] "No more codes can be sent right now." "Jetzt kann kein weiterer Code versandt werden." "Aucun autre code ne peut être envoyé maintenant.";
    NewPassword "new_password" [] "Your password has expired. Enter a new password:" "Das Passwort ist abgelaufen. Neues Passwort:" "Votre mot de passe a expiré. Nouveau mot de passe :";
    NewPasswordAgain "new_password_again" [] "Repeat the new password:" "Neues Passwort noch einmal:" "Nouveau mot de passe, encore une fois :";
    NotTaken "not_taken" ["why"] "Password not accepted: {why}. Enter another one:" "Nicht angenommen: {why}. Neues Passwort:" "Refusé : {why}. Nouveau mot de passe :";
    Message "message" ["code", "site", "minutes"] "{code} is your sign-in code for {site}. Valid for {minutes} minutes." "{code} ist der Anmeldecode für {site}. Er gilt {minutes} Minuten." "{code} est votre code de connexion à {site}. Il est valable {minutes} minutes.";
    Subject "subject" ["site"] "Sign-in code for {site}" "Anmeldecode für {site}" "Code de connexion à {site}";
    PushTitle "push_title" ["site"] "{site}: are you signing in?" "{site}: Melden Sie sich gerade an?" "{site} : êtes-vous en train de vous connecter ?";
    PushBody "push_body" ["name", "login", "gateway", "from"] "{name} ({login}) through {gateway}, from {from}" "{name} ({login}) über {gateway}, von {from}" "{name} ({login}) par {gateway}, depuis {from}";
    PushFromUnknown "push_from_unknown" [] "an unknown place" "einem unbekannten Ort" "un lieu inconnu";
    PushOpen "push_open" [] "Open to approve" "Öffnen und bestätigen" "Ouvrir pour approuver";
    PushDeny "push_deny" [] "Deny" "Ablehnen" "Refuser";
    PushTestTitle "push_test_title" ["site"] "Test from {site}" "Test von {site}" "Test de {site}";
    PushTestBody "push_test_body" [] "Tap here to confirm that this phone shows notifications." "Hier tippen, um zu bestätigen, dass dieses Telefon Mitteilungen zeigt." "Touchez ici pour confirmer que ce téléphone affiche les notifications.";
    WakeMessage "wake_message" ["site", "gateway", "link"] "{site}: somebody is signing in with your name through {gateway}. Open on your phone to answer: {link}" "{site}: Jemand meldet sich mit Ihrem Namen über {gateway} an. Zum Antworten auf dem Telefon öffnen: {link}" "{site} : quelqu'un se connecte à votre nom par {gateway}. Pour répondre, ouvrez sur votre téléphone : {link}";
    WakeSubject "wake_subject" ["site"] "Sign-in request from {site}" "Anmeldeanfrage von {site}" "Demande de connexion de {site}";
    Refused "refused" ["reference"] "Sign-in failed. Reference {reference}" "Anmeldung abgelehnt. Referenz {reference}" "Connexion refusée. Référence {reference}";
}

/// A language's own texts in the site file.
pub type OwnTexts = BTreeMap<Text, String>;

/// The texts of a site.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Texts {
    /// The language used where a person or gateway has none that is known; English if empty.
    pub fallback: String,
    /// Texts that the site file gives, by language tag.
    pub own: BTreeMap<String, OwnTexts>,
    /// Texts of the handset page that the site file gives, by language tag: the English text, and what stands in its place.
    pub page: BTreeMap<String, BTreeMap<String, String>>,
}

impl Texts {
    /// The languages that a person or gateway may be spoken to in.
    pub fn languages(&self) -> impl Iterator<Item = &str> {
        SHIPPED.into_iter().chain(self.own.keys().map(String::as_str).filter(|tag| !SHIPPED.contains(tag)))
    }

    /// Writes a text in a language, or in the nearest that has it: `de-CH` falls to `de`, then to the site's own, then to English.
    pub fn say(&self, language: &str, text: Text, places: &[(&str, &str)]) -> String {
        let general = language.split('-').next().unwrap_or_default();
        let template = [language, general, self.fallback.as_str(), SHIPPED[LAST_RESORT]]
            .into_iter()
            .find_map(|tag| self.own.get(tag).and_then(|own| own.get(&text)).map(String::as_str).or_else(|| shipped(tag, text)));
        fill(template.unwrap_or(text.shipped()[LAST_RESORT]), places)
    }
}

impl Texts {
    /// Texts of the handset page that the site gives for a language, or for the nearest that it gives any for.
    pub fn of_page(&self, language: &str) -> BTreeMap<String, String> {
        let general = language.split('-').next().unwrap_or_default();
        [language, general].into_iter().find_map(|tag| self.page.get(tag)).cloned().unwrap_or_default()
    }
}

fn shipped(tag: &str, text: Text) -> Option<&'static str> {
    SHIPPED.iter().position(|shipped| *shipped == tag).map(|at| text.shipped()[at])
}

/// Names of places in a template that are none of those allowed; empty if all is well.
pub fn strange_places(template: &str, allowed: &[&str]) -> Vec<String> {
    split_places(template).filter_map(|(_, place)| place).filter(|place| !allowed.contains(place)).map(str::to_owned).collect()
}

/// Splits a template into plain text, each piece with the place behind it. A place is `{name}` in small letters; any other brace is
/// plain, so that JSON needs no escaping.
fn split_places(template: &str) -> impl Iterator<Item = (&str, Option<&str>)> {
    let mut rest = Some(template);
    std::iter::from_fn(move || {
        let text = rest.take()?;
        let name_at = |open: usize| {
            let length = text[open + 1..].find('}')?;
            let name = &text[open + 1..open + 1 + length];
            (!name.is_empty() && name.bytes().all(|byte| byte.is_ascii_lowercase() || byte == b'_')).then_some(name)
        };
        let found = text.match_indices('{').find_map(|(open, _)| name_at(open).map(|name| (open, name)));
        let Some((open, name)) = found else { return Some((text, None)) };
        rest = Some(&text[open + name.len() + 2..]);
        Some((&text[..open], Some(name)))
    })
}

/// Fills a template; a place without a value is left empty.
pub fn fill(template: &str, places: &[(&str, &str)]) -> String {
    let mut filled = String::with_capacity(template.len() + 16);
    for (plain, place) in split_places(template) {
        filled.push_str(plain);
        if let Some(place) = place {
            filled.push_str(places.iter().find(|(name, _)| *name == place).map_or("", |(_, value)| value));
        }
    }
    filled
}

/// Cuts a prompt to so many bytes at a whole character, with a mark that something is missing.
pub fn shorten(text: &str, limit: usize) -> String {
    const CUT: &str = "…";
    if text.len() <= limit {
        return text.to_owned();
    }
    let most = limit.saturating_sub(CUT.len());
    let end = (0..=most).rev().find(|at| text.is_char_boundary(*at)).unwrap_or(0);
    format!("{}{CUT}", &text[..end])
}

/// An answer as it was meant: spaces, hyphens and dots inside numbers taken out, full-width and other decimal digits made plain.
pub fn plain_answer(typed: &str) -> String {
    let folded: String = typed.trim().chars().map(plain_digit).collect();
    let compact: String = folded.chars().filter(|character| !character.is_whitespace() && !"-.·".contains(*character)).collect();
    if !compact.is_empty() && compact.bytes().all(|byte| byte.is_ascii_digit()) { compact } else { folded }
}

/// Digits of full width, and Arabic-Indic and Devanagari ones, as ASCII.
fn plain_digit(character: char) -> char {
    let zeros = ['\u{ff10}', '\u{0660}', '\u{06f0}', '\u{0966}'];
    let value = zeros.iter().find_map(|zero| (character as u32).checked_sub(*zero as u32).filter(|value| *value < 10));
    value.and_then(|value| char::from_digit(value, 10)).unwrap_or(character)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_language_falls_back_step_by_step_and_own_texts_come_first() {
        let mut texts = Texts { fallback: "de".into(), ..Texts::default() };
        texts.own.insert("nl".into(), BTreeMap::from([(Text::Code, "Code van {devices}:".into())]));
        let say = |language: &str, text: Text| texts.say(language, text, &[("devices", "phone")]);
        assert_eq!(say("nl", Text::Code), "Code van phone:");
        assert_eq!(say("nl", Text::Wrong), "Das war nicht richtig.");
        assert_eq!(say("fr-CH", Text::Code), "Code de phone :");
        assert_eq!(say("xx", Text::Code), "Code von phone:");
        assert_eq!(Texts::default().say("", Text::Code, &[]), "Enter the code from :");
        texts.own.insert("en".into(), BTreeMap::from([(Text::Code, "Six digits:".into())]));
        assert_eq!(texts.say("", Text::Wrong, &[]), "Das war nicht richtig.", "the site's own language comes first");
        texts.fallback.clear();
        assert_eq!(texts.say("", Text::Code, &[]), "Six digits:", "own English texts need no `language`");
    }

    #[test]
    fn every_shipped_text_has_just_its_places_in_every_language() {
        for text in Text::ALL {
            for shipped in text.shipped() {
                assert_eq!(strange_places(shipped, text.places()), Vec::<String>::new(), "{shipped}");
                for place in text.places() {
                    assert!(shipped.contains(&format!("{{{place}}}")), "{shipped} lacks {place}");
                }
            }
        }
    }

    #[test]
    fn answers_are_read_as_they_were_meant() {
        for (typed, meant) in [
            (" 123 456 ", "123456"),
            ("１２３４５６", "123456"),
            ("123-456", "123456"),
            ("٢", "2"),
            (" Text ", "Text"),
            ("12a 4", "12a 4"),
            ("", ""),
        ] {
            assert_eq!(plain_answer(typed), meant);
        }
    }

    proptest! {
        #[test]
        fn a_shortened_text_keeps_to_its_limit(text in "\\PC{0,60}", limit in 3usize..80) {
            prop_assert!(shorten(&text, limit).len() <= limit.max(3));
        }
    }
}
