//! The methods that end here, one row each: their name in site files, the type that is negotiated, and what goes on inside.

use super::{GTC, MD5, MS_CHAP_V2, PEAP, TLS, TTLS};

/// What proves who the person is inside a method.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Inner {
    /// Nothing else: the method itself does.
    Itself,
    /// A text, in an attribute of EAP-TTLS.
    Pap,
    /// A CHAP response, in attributes of EAP-TTLS.
    Chap,
    /// An MS-CHAPv2 response, in attributes of EAP-TTLS.
    MsChapV2,
    /// Another EAP method, by its type.
    Eap(u8),
}

/// What a method yields for the login.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Proves {
    /// The text that was typed.
    Text,
    /// A CHAP response.
    Chap,
    /// An MS-CHAPv2 response.
    MsChapV2,
    /// A certificate.
    Certificate,
}

macro_rules! methods {
    ($($variant:ident $name:literal $spoken:literal $outer:ident $inner:expr, $proves:ident, $says:literal;)*) => {
        /// A method that the service carries out itself.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
        pub enum EapMethod {
            $(#[doc = $says] $variant,)*
        }

        impl EapMethod {
            /// All of them.
            pub const ALL: &[EapMethod] = &[$(EapMethod::$variant),*];

            /// Its name in site files and traces.
            pub const fn name(self) -> &'static str {
                match self { $(EapMethod::$variant => $name,)* }
            }

            /// Its name in sentences, with its article.
            pub const fn spoken(self) -> &'static str {
                match self { $(EapMethod::$variant => $spoken,)* }
            }

            /// The type that is negotiated.
            pub const fn outer(self) -> u8 {
                match self { $(EapMethod::$variant => $outer,)* }
            }

            /// What goes on inside.
            pub const fn inner(self) -> Inner {
                match self { $(EapMethod::$variant => $inner,)* }
            }

            /// What it yields.
            pub const fn proves(self) -> Proves {
                match self { $(EapMethod::$variant => Proves::$proves,)* }
            }

            /// What it is, for the reference.
            pub const fn says(self) -> &'static str {
                match self { $(EapMethod::$variant => $says,)* }
            }
        }
    };
}

methods! {
    Gtc "eap-gtc" "an EAP-GTC" GTC Inner::Itself, Text, "EAP-GTC without a tunnel: the text is readable on the way to the gateway.";
    Md5 "eap-md5" "an EAP-MD5" MD5 Inner::Itself, Chap, "EAP-MD5: a weak proof without keys, for old devices only.";
    MsChapV2 "eap-mschapv2" "an EAP-MSCHAPv2" MS_CHAP_V2 Inner::Itself, MsChapV2, "EAP-MSCHAPv2 without a tunnel of its own, as inside IKEv2.";
    Tls "eap-tls" "an EAP-TLS" TLS Inner::Itself, Certificate, "EAP-TLS: a client certificate.";
    TtlsPap "eap-ttls-pap" "an EAP-TTLS/PAP" TTLS Inner::Pap, Text, "EAP-TTLS with PAP inside.";
    TtlsChap "eap-ttls-chap" "an EAP-TTLS/CHAP" TTLS Inner::Chap, Chap, "EAP-TTLS with CHAP inside.";
    TtlsMsChapV2 "eap-ttls-mschapv2" "an EAP-TTLS/MSCHAPv2" TTLS Inner::MsChapV2, MsChapV2, "EAP-TTLS with MS-CHAPv2 inside.";
    TtlsGtc "eap-ttls-gtc" "an EAP-TTLS/EAP-GTC" TTLS Inner::Eap(GTC), Text, "EAP-TTLS with EAP-GTC inside, which can show prompts.";
    TtlsMd5 "eap-ttls-eap-md5" "an EAP-TTLS/EAP-MD5" TTLS Inner::Eap(MD5), Chap, "EAP-TTLS with EAP-MD5 inside.";
    TtlsEapMsChapV2 "eap-ttls-eap-mschapv2" "an EAP-TTLS/EAP-MSCHAPv2" TTLS Inner::Eap(MS_CHAP_V2), MsChapV2, "EAP-TTLS with EAP-MSCHAPv2 inside.";
    PeapMsChapV2 "eap-peap-mschapv2" "a PEAP/MSCHAPv2" PEAP Inner::Eap(MS_CHAP_V2), MsChapV2, "PEAP with EAP-MSCHAPv2 inside.";
    PeapTls "eap-peap-tls" "a PEAP/EAP-TLS" PEAP Inner::Eap(TLS), Certificate, "PEAP with EAP-TLS inside: a client certificate that nobody on the way sees.";
    PeapGtc "eap-peap-gtc" "a PEAP/GTC" PEAP Inner::Eap(GTC), Text, "PEAP with EAP-GTC inside, which can show prompts.";
}

impl EapMethod {
    /// The method of a name.
    pub fn named(name: &str) -> Option<Self> {
        EapMethod::ALL.iter().copied().find(|method| method.name() == name)
    }

    /// Whether the server proves itself by a certificate first, and everything after that is encrypted.
    pub const fn has_tunnel(self) -> bool {
        matches!(self.outer(), TLS | TTLS | PEAP)
    }

    /// Whether a further text can be asked for after the first.
    pub const fn prompts(self) -> bool {
        matches!((self.outer(), self.inner()), (GTC, _) | (_, Inner::Eap(GTC)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_unique_and_lead_back_to_their_method() {
        for method in EapMethod::ALL {
            assert_eq!(EapMethod::named(method.name()), Some(*method));
            assert!(super::super::method_name(method.outer()).is_some());
            assert!(method.name().starts_with("eap-") && method.spoken().ends_with(|last: char| last.is_alphanumeric()));
        }
        assert_eq!(EapMethod::named("eap"), None, "that one is forwarded");
    }

    #[test]
    fn only_a_text_method_can_ask_for_another_text() {
        for method in EapMethod::ALL.iter().filter(|method| method.prompts()) {
            assert_eq!(method.proves(), Proves::Text, "{method:?}");
        }
        assert!(!EapMethod::TtlsPap.prompts(), "PAP sends one text and ends");
    }
}
