//! People and their factors: views, requests, and what imports and edits came to.

use crate::push::PushView;
use bivector_model::device::CodeKind;
use bivector_model::totp::Algorithm;
use bivector_site::Invited;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use utoipa::ToSchema;

/// An invitation that was made. Its code is told this once.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Made {
    /// The person's key.
    pub person: String,
    /// What it is to.
    pub factor: Invited,
    /// The code, in groups of four.
    pub code: String,
    /// A link that holds it, where the site has an address for the handset page.
    pub link: Option<String>,
    /// Until when it may be used, in microseconds since 1970.
    pub until_us: u64,
    /// Where it was sent, mostly hidden; none where it is handed over on screen.
    pub sent_to: Option<String>,
}

/// What a person needs to set an authenticator app up.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct NewApp {
    /// The seed in base32, to type.
    pub seed: String,
    /// The same as a link, for a QR code.
    pub link: String,
    /// To be sent back with the app's first code.
    pub ticket: String,
}

/// A factor to add.
#[derive(Deserialize, ToSchema)]
pub struct FactorRequest {
    /// `totp`, `hotp`, `recovery` or `temporary`.
    pub kind: CodeKind,
    /// What the person calls it; one of the same kind and name is replaced.
    #[serde(default)]
    pub label: Option<String>,
    /// The seed in base32, where the device has one already; a new one is made otherwise.
    #[serde(default)]
    pub seed: Option<String>,
    /// The hash of its codes.
    #[serde(default)]
    pub algorithm: Option<Algorithm>,
    /// Digits of its codes: 6 to 8; of a temporary code 6 to 10.
    #[serde(default)]
    pub digits: Option<u8>,
    /// Seconds that a code by time lives.
    #[serde(default)]
    pub period: Option<u32>,
    /// The counter that a device by count begins with.
    #[serde(default)]
    pub counter: Option<u64>,
    /// A PIN to stand before its codes.
    #[serde(default)]
    pub pin: Option<String>,
    /// How long a temporary code works, in seconds.
    #[serde(default)]
    pub seconds: Option<u64>,
    /// How often a temporary code may be used; once if not given.
    #[serde(default)]
    pub uses: Option<u32>,
    /// Why a temporary code is issued.
    #[serde(default)]
    pub reason: Option<String>,
}

/// A factor that was added. Its secrets are shown this once.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct AddedFactor {
    /// The factor.
    pub factor: FactorView,
    /// The seed in base32, if it was made here.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub seed: Option<String>,
    /// The same as a link that apps read, with everything that was agreed.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub link: Option<String>,
    /// Recovery codes, or the temporary code.
    #[serde(skip_serializing_if = "Vec::is_empty", default)]
    pub codes: Vec<String>,
    /// What keeps it from being of use, where something does.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub warning: Option<String>,
}

/// A PIN to set, or none to remove it.
#[derive(Deserialize, ToSchema)]
pub struct PinRequest {
    /// 4 to 12 digits.
    pub pin: Option<String>,
}

/// Two codes in a row, to find out where a device is; or none to forget what is known of it.
#[derive(Deserialize, ToSchema)]
pub struct ResyncRequest {
    /// The code that the device showed first.
    #[serde(default)]
    pub first: Option<String>,
    /// The code that it showed next.
    #[serde(default)]
    pub second: Option<String>,
}

/// An invitation to make.
#[derive(Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct InviteRequest {
    /// What it is to; what the site says for newcomers of the person's groups, or a handset, if not given.
    #[serde(default)]
    pub factor: Option<Invited>,
    /// The courier that brings it; handed over on screen if not given.
    #[serde(default)]
    pub send_by: Option<String>,
}

/// What an operator was told, to confirm a new device.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct ConfirmRequest {
    /// The reference that the device shows, as the person reads it out.
    pub reference: String,
}

/// Another name for a factor.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct RenameRequest {
    /// The new name.
    pub label: String,
}

/// Something that can be taken back.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct Undoable {
    /// Under this number.
    pub change: u64,
}

/// A person, without anything secret.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct PersonView {
    /// The login name.
    pub login: String,
    /// The source that knows the person.
    pub source: String,
    /// The name for display.
    pub name: String,
    /// Groups kept here, for people of the roster.
    pub groups: Vec<String>,
    /// Whether the person is suspended.
    pub disabled: bool,
    /// Whether a password is kept here.
    pub has_password: bool,
    /// What is kept of it for methods that prove it: `text`, `nt-hash` or nothing.
    pub keeps: Option<String>,
    /// Where codes by mail go, mostly hidden; none where only the source knows it.
    pub mail: Option<String>,
    /// Where codes by text message and voice go, mostly hidden; none where only the source knows it.
    pub phone: Option<String>,
    /// The language that the person reads; empty if not known here.
    pub language: String,
    /// Wrong codes since the last right one.
    pub lock: Option<LockView>,
    /// Wrong passwords since the last right one.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub passwords: Option<GuessesView>,
    /// How far the person is on the way to a second factor.
    pub state: PersonState,
    /// The newest invitation.
    pub invitation: Option<InvitationView>,
    /// Approvals that are stopped.
    pub stop: Option<StopView>,
    /// Factors.
    pub factors: Vec<FactorView>,
}

/// Wrong codes and PINs of a person since the last right one.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct LockView {
    /// How many.
    pub wrong: u32,
    /// How many lock.
    pub after: u32,
    /// When the first was typed, in microseconds since 1970.
    pub first_us: u64,
    /// When the last was typed.
    pub last_us: u64,
    /// The gateway of the last one.
    pub gateway: String,
    /// Until when the person is locked, if so.
    pub locked_until_us: Option<u64>,
}

/// Wrong passwords of a person since the last right one, over all gateways and the own page.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct GuessesView {
    /// How many.
    pub wrong: u32,
    /// How many make the person wait.
    pub after: u32,
    /// When the last was typed, in microseconds since 1970.
    pub last_us: u64,
    /// The gateway of the last one.
    pub gateway: String,
    /// Until when no source is asked, if so.
    pub until_us: Option<u64>,
}

/// What became of a person's wrong codes and passwords.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct Released {
    /// The person's key.
    pub person: String,
    /// Whether there were any to forget.
    pub released: bool,
}

/// An invitation, without its code.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct InvitationView {
    /// What it is to.
    pub factor: Invited,
    /// When it was made, in microseconds since 1970.
    pub created_us: u64,
    /// Until when it may be used.
    pub until_us: u64,
    /// Whether that is over.
    pub expired: bool,
    /// When it was used.
    pub used_us: Option<u64>,
    /// Where it was sent, mostly hidden.
    pub sent_to: Option<String>,
    /// Who made it.
    pub operator: String,
}

/// Approvals that are stopped, since the person said that a login was not theirs.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct StopView {
    /// When the person said so, in microseconds since 1970.
    pub at_us: u64,
    /// Until when they are stopped.
    pub until_us: u64,
    /// The gateway of that login.
    pub gateway: String,
    /// Where it came from.
    pub from: String,
    /// Its reference.
    pub reference: String,
}

/// How far a person is on the way to a second factor.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum PersonState {
    /// Nothing has happened yet.
    NotYet,
    /// An invitation is open.
    Invited,
    /// The last invitation has expired unused.
    Expired,
    /// A new device waits until an operator confirms it.
    Waiting,
    /// There is a factor that no login has used yet.
    Enrolled,
    /// A login has used a factor.
    Proven,
    /// Too many wrong codes have locked the person, or approvals are stopped.
    Locked,
    /// Kept out.
    Suspended,
}

/// How many people are how far.
#[derive(Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct RollOut {
    /// People known here.
    pub people: usize,
    /// Of them, by state: `not-yet`, `invited`, `expired`, `waiting`, `enrolled`, `proven`, `locked`, `suspended`.
    pub states: BTreeMap<String, usize>,
}

/// Whether to keep a person out.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct Suspension {
    /// Whether to keep out.
    pub suspended: bool,
}

/// A list of changes.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct EditRequest {
    /// A CSV file with a header: `login`, `action`, `source`, `factor`, `value`.
    pub csv: String,
    /// Whether to look at it only.
    #[serde(default)]
    pub preview: bool,
}

/// A directory's group to match.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct SyncRequest {
    /// The directory.
    pub directory: String,
    /// The group, by name or whole DN.
    pub group: String,
    /// What happens to people known here who are not in it.
    #[serde(default)]
    pub leavers: Leavers,
    /// Whether to look only.
    #[serde(default)]
    pub preview: bool,
}

/// A change that was taken back.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct Undone {
    /// The change.
    pub change: Change,
}

/// How a factor is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum FactorState {
    /// It can be used.
    Ready,
    /// All its codes are used.
    UsedUp,
    /// Its time is over.
    Ended,
    /// It does not count before an operator has confirmed it, or a right code has.
    Waiting,
    /// Its secret does not open with this key file.
    Unreadable,
}

/// A factor, without its seed and codes.
#[derive(Debug, Serialize, Deserialize, ToSchema)]
pub struct FactorView {
    /// Its number.
    pub id: u64,
    /// `totp`, `hotp`, `recovery`, `temporary`, `handset` or `key`.
    pub kind: String,
    /// What the person calls it.
    pub label: String,
    /// How it is.
    pub state: FactorState,
    /// Digits of a code; none where it makes no codes.
    pub digits: u8,
    /// Seconds that a code by time lives.
    pub period: Option<u32>,
    /// Seconds that its clock was off when it was last right; negative is late.
    pub drift_seconds: Option<i64>,
    /// The next counter of a device by count.
    pub counter: Option<u64>,
    /// Codes of a list, or uses of a temporary code, that are left.
    pub left: Option<u32>,
    /// When a temporary code ends, in microseconds since 1970.
    pub until_us: Option<u64>,
    /// Why a temporary code was issued.
    pub reason: Option<String>,
    /// Who issued it.
    pub operator: Option<String>,
    /// Whether a PIN was set for it.
    pub has_pin: bool,
    /// When it was added, in microseconds since 1970.
    pub created_us: u64,
    /// When it last let somebody in.
    pub last_used_us: Option<u64>,
    /// How a handset can be woken, where the site wakes people by push.
    #[serde(skip_serializing_if = "Option::is_none", default)]
    pub push: Option<PushView>,
}

/// People to import.
#[derive(Deserialize, ToSchema)]
pub struct ImportRequest {
    /// A CSV file with a header.
    pub csv: String,
    /// Whether to look at it only.
    #[serde(default)]
    pub preview: bool,
}

/// What a list of changes did, or would do.
#[derive(Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct Edited {
    /// What each line does, in order.
    pub lines: Vec<EditLine>,
    /// Mistakes; if there are any, nothing was done.
    pub errors: Vec<LineError>,
    /// The number under which it can be taken back; invitations and releases are not.
    pub change: Option<u64>,
    /// Invitations that were made, with their codes where they are handed over on screen.
    pub invitations: Vec<Made>,
    /// Whom an invitation did not reach, and why.
    pub missed: Vec<String>,
}

/// One line of a list.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct EditLine {
    /// The line, from 1.
    pub line: u64,
    /// The person's key.
    pub person: String,
    /// What is done, in words.
    pub does: String,
}

/// What happens to people who have left a group.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Leavers {
    /// Nothing; they are only told.
    #[default]
    Keep,
    /// They are kept out.
    Suspend,
    /// They are forgotten with all factors. Can be taken back.
    Remove,
}

/// What a sync did, or would do.
#[derive(Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct Synced {
    /// Members of the group.
    pub members: usize,
    /// People who are new here, by key.
    pub joined: Vec<String>,
    /// People known here of the same directory who are not in the group, by key.
    pub left: Vec<String>,
    /// People who were suspended and are in the group.
    pub suspended: Vec<String>,
    /// People whose name or address differs from what is kept here, each with what.
    pub changed: BTreeMap<String, String>,
    /// The number under which it can be taken back.
    pub change: Option<u64>,
    /// How many newcomers were invited.
    pub invited: usize,
    /// Whom an invitation did not reach, and why.
    pub missed: Vec<String>,
}

/// A mistake in a CSV file.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct LineError {
    /// The line, from 1.
    pub line: u64,
    /// The column, where one is at fault.
    pub column: Option<String>,
    /// What is wrong, and what is allowed.
    pub message: String,
}

/// What an import did, or would do.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Imported {
    /// People in the file.
    pub people: usize,
    /// People of the file who are new or were known otherwise. Nothing is written of the others.
    #[serde(default)]
    pub changed: usize,
    /// Factors in the file.
    pub factors: usize,
    /// People of the file who are not known here yet.
    pub new: usize,
    /// The number under which the import can be taken back.
    pub change: Option<u64>,
    /// How many newcomers were invited, as the site says for their groups.
    pub invited: usize,
    /// Whom an invitation did not reach, and why.
    pub missed: Vec<String>,
    /// Mistakes; if there are any, nothing was kept.
    pub errors: Vec<LineError>,
}

/// A person to add, or to bring up to date. What is not given stays.
#[derive(Debug, Default, Serialize, Deserialize, ToSchema)]
pub struct PersonRequest {
    /// The name for display.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// Groups, for people of the roster.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub groups: Option<Vec<String>>,
    /// Where codes by mail go.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub mail: Option<String>,
    /// Where codes by text message and voice go.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub phone: Option<String>,
    /// The language that the person reads.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub language: Option<String>,
    /// A password, for people of the roster.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub password: Option<String>,
}

/// A change as listed.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Change {
    /// Its number.
    pub number: u64,
    /// When, in microseconds since 1970.
    pub at_us: u64,
    /// Who did it.
    pub operator: String,
    /// What was done, in a few words.
    pub what: String,
    /// How many people it touched.
    pub people: u32,
    /// When it was taken back, if it was.
    pub undone_us: Option<u64>,
}
