//! The ways through a chain: by which gateway, with which method, and how the second factor is given.

use bivector_model::device::CodeKind;
use bivector_site::{Chain, FactorKind, Method, Site};
use bivector_wire::eap::Proves;

/// How somebody gives the second factor.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum How {
    /// No second factor is asked for.
    None,
    /// A code behind the password.
    Typed(CodeKind),
    /// A code at a prompt.
    Prompted(CodeKind),
    /// A code behind the password that an upstream checks.
    Upstream(usize),
    /// Such a code at a prompt.
    UpstreamPrompted(usize),
    /// A code that a courier brings, typed at a prompt.
    Courier(usize),
    /// An approval, while the gateway waits.
    Approval,
    /// An approval with a number on the gateway's screen: the person goes on there once it is picked.
    Number,
}

/// One way through a chain.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Way {
    /// Index of the chain.
    pub chain: usize,
    /// Index of the gateway.
    pub gateway: usize,
    /// The method.
    pub method: Method,
    /// The second factor.
    pub how: How,
}

impl How {
    /// A stable name: `none`, `totp`, `totp-prompt`, a courier's or upstream's name, `approval`, `number`.
    pub fn slug(self, site: &Site) -> String {
        match self {
            How::None => "none".to_owned(),
            How::Typed(kind) => kind.name().to_owned(),
            How::Prompted(kind) => format!("{}-prompt", kind.name()),
            How::Upstream(index) => site.factor_name(FactorKind::Upstream(index)).to_owned(),
            How::UpstreamPrompted(index) => format!("{}-prompt", site.factor_name(FactorKind::Upstream(index))),
            How::Courier(index) => site.factor_name(FactorKind::Courier(index)).to_owned(),
            How::Approval => "approval".to_owned(),
            How::Number => "number".to_owned(),
        }
    }

    /// In words.
    pub fn said(self, site: &Site) -> String {
        match self {
            How::None => "no second factor".to_owned(),
            How::Typed(kind) => format!("{} behind the password", kind.name()),
            How::Prompted(kind) => format!("{} at a prompt", kind.name()),
            How::Upstream(index) => format!("code behind the password, checked by {}", site.factor_name(FactorKind::Upstream(index))),
            How::UpstreamPrompted(index) => format!("code at a prompt, checked by {}", site.factor_name(FactorKind::Upstream(index))),
            How::Courier(index) => format!("code by {}, at a prompt", site.factor_name(FactorKind::Courier(index))),
            How::Approval => "approval while the gateway waits".to_owned(),
            How::Number => "approval with a number on the screen".to_owned(),
        }
    }

    /// Whether a handset is asked.
    pub fn asks_handset(self) -> bool {
        matches!(self, How::Approval | How::Number)
    }
}

/// All ways through a chain that can end well, through one gateway or through all of its gateways.
pub fn ways(site: &Site, chain: usize, via: Option<usize>) -> Vec<Way> {
    let Some(of) = site.chains.get(chain) else { return Vec::new() };
    let gateways =
        site.gateways.iter().enumerate().filter(|(index, gateway)| gateway.chains.contains(&chain) && via.is_none_or(|via| via == *index));
    gateways
        .flat_map(|(index, gateway)| {
            of.methods.iter().flat_map(move |method| {
                let by_method = hows(of, method.prompts(gateway.shows_challenges)).into_iter().filter(|how| fits(*how, *method));
                by_method.map(|how| Way { chain, gateway: index, method: *method, how }).collect::<Vec<_>>()
            })
        })
        .collect()
}

/// A proof tells no text, so an upstream gets no code out of it; live codes of our own devices are tried behind it.
fn fits(how: How, method: Method) -> bool {
    match how {
        How::Upstream(_) => method.gives_text(),
        How::Typed(_) => !matches!(method.proves(), None | Some(Proves::Certificate)),
        _ => true,
    }
}

/// `prompts` says whether a prompt can be shown, by the gateway or inside EAP.
fn hows(chain: &Chain, prompts: bool) -> Vec<How> {
    if chain.second.is_empty() {
        return vec![How::None];
    }
    // At a prompt or on a handset the second factor comes apart from the password, so the password must be able to stand alone.
    let plain = chain.forms.is_empty() || chain.forms.iter().any(|form| form.has_password() && !form.has_code());
    let prompts = prompts && plain;
    let typed = |digits: Option<u8>| {
        chain.forms.is_empty() || chain.forms.iter().any(|form| form.has_code() && digits.is_none_or(|digits| form.takes_digits(digits)))
    };
    let mut all = Vec::new();
    for kind in &chain.second {
        match kind {
            FactorKind::Code(kind) => {
                all.extend(typed(None).then_some(How::Typed(*kind)));
                all.extend(prompts.then_some(How::Prompted(*kind)));
            }
            FactorKind::Upstream(index) => {
                all.extend(typed(None).then_some(How::Upstream(*index)));
                all.extend(prompts.then_some(How::UpstreamPrompted(*index)));
            }
            FactorKind::Courier(index) => all.extend(prompts.then_some(How::Courier(*index))),
            FactorKind::Approval | FactorKind::Key if prompts && chain.match_number => all.push(How::Number),
            FactorKind::Approval | FactorKind::Key => all.extend(plain.then_some(How::Approval)),
        }
    }
    let mut seen = Vec::new();
    all.retain(|how| {
        let new = !seen.contains(how);
        seen.push(*how);
        new
    });
    all
}
