//! What `person` and `factor` take.

use clap::{Args, Subcommand};
use std::path::PathBuf;

#[derive(Debug, Subcommand)]
pub(crate) enum Person {
    /// List people
    List {
        /// Only people whose login name, name, group or source contains this text
        #[arg(long)]
        search: Option<String>,
        /// Only people in this enrolment state
        #[arg(long, value_parser = ["not-yet", "invited", "expired", "waiting", "enrolled", "proven", "locked", "suspended"])]
        state: Option<String>,
        /// Only people without a usable second factor
        #[arg(long)]
        without_factor: bool,
    },
    /// Count people by enrolment state
    Progress,
    /// Add a person, or update one; values you do not give stay unchanged
    Add {
        /// The login name
        login: String,
        /// Source the person belongs to
        #[arg(long, default_value = "roster")]
        source: String,
        /// Display name
        #[arg(long)]
        name: Option<String>,
        /// Groups (roster people only)
        #[arg(long, value_delimiter = ';')]
        groups: Option<Vec<String>>,
        /// Email address for codes
        #[arg(long)]
        mail: Option<String>,
        /// Phone number for codes by text message or call
        #[arg(long)]
        phone: Option<String>,
        /// Preferred language
        #[arg(long)]
        language: Option<String>,
        /// Read the person's password (roster only) from a file; `-` for standard input
        #[arg(long, value_name = "FILE")]
        password_file: Option<PathBuf>,
    },
    /// Synchronise people with a directory group: who joined, who left, what changed
    Sync {
        /// The directory
        directory: String,
        /// Group name or full DN
        #[arg(long)]
        group: String,
        /// What to do with people who are no longer in the group
        #[arg(long, default_value = "keep", value_parser = ["keep", "suspend", "remove"])]
        leavers: String,
        /// Make the changes; without this they are only listed
        #[arg(long)]
        apply: bool,
    },
    /// Refuse a person's logins at once, whatever the source says
    Suspend {
        #[command(flatten)]
        whose: Whose,
        /// Lift the suspension
        #[arg(long)]
        lift: bool,
    },
    /// Delete a person and all their factors; `person undo` restores them
    Remove {
        #[command(flatten)]
        whose: Whose,
        /// Do not ask for confirmation
        #[arg(long)]
        yes: bool,
    },
    /// Apply a CSV list of changes: invite, remove, rename, release, suspend, lift
    Edit {
        /// The CSV file with `login`, `action`, `source`, `factor`, `value`; `-` for standard input
        file: PathBuf,
        /// Show what would change, without changing it
        #[arg(long)]
        preview: bool,
    },
    /// List recent changes to people, with the numbers that `person undo` takes
    Changes,
    /// Undo a change
    Undo {
        /// Change number, from `person changes`
        number: u64,
    },
    /// Show a person with all factors
    Show {
        /// The login name
        login: String,
    },
    /// Import people from CSV; nothing is imported if any line has an error
    Import {
        /// The CSV file; `-` for standard input
        file: PathBuf,
        /// Show what would change, without changing it
        #[arg(long)]
        preview: bool,
    },
}

/// Whose factor it is.
#[derive(Debug, Args)]
pub(crate) struct Whose {
    /// The login name
    pub(crate) person: String,
    /// Source the person belongs to, if the login name exists in several
    #[arg(long)]
    pub(crate) source: Option<String>,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Factor {
    /// List a person's factors with state, clock drift, lock and last use
    List(Whose),
    /// Add a TOTP (time-based) or HOTP (counter-based) device; its seed is shown only once
    Add {
        #[command(flatten)]
        whose: Whose,
        /// Type of codes
        #[arg(long, default_value = "totp", value_parser = ["totp", "hotp"])]
        kind: String,
        /// Name of the device; replaces a device of the same kind and name
        #[arg(long)]
        label: Option<String>,
        /// Digits per code
        #[arg(long, default_value_t = 6)]
        digits: u8,
        /// TOTP period in seconds
        #[arg(long, default_value_t = 30)]
        period: u32,
        /// Hash algorithm
        #[arg(long, default_value = "sha1", value_parser = ["sha1", "sha256", "sha512"])]
        algorithm: String,
        /// Initial HOTP counter
        #[arg(long)]
        counter: Option<u64>,
        /// Read an existing device's seed (base32) from a file; `-` for standard input [default: generate a seed]
        #[arg(long, value_name = "FILE")]
        seed_file: Option<PathBuf>,
    },
    /// Issue ten new single-use recovery codes; an earlier list stops working
    Recovery(Whose),
    /// Issue a temporary code
    Temporary {
        #[command(flatten)]
        whose: Whose,
        /// How long the code is valid, for example `30m`, `8h` or `2d`
        #[arg(long = "for", value_name = "TIME")]
        lasts: String,
        /// Reason, kept with the code and in the audit log
        #[arg(long)]
        reason: String,
        /// Maximum number of uses
        #[arg(long, default_value_t = 1)]
        uses: u32,
        /// Digits of the code
        #[arg(long, default_value_t = 8)]
        digits: u8,
    },
    /// Set or remove the PIN that must precede a device's codes
    Pin {
        #[command(flatten)]
        whose: Whose,
        /// Factor number, from `factor list`
        number: u64,
        /// Remove the PIN
        #[arg(long)]
        remove: bool,
        /// Read the PIN from a file; `-` for standard input [default: prompt]
        #[arg(long, value_name = "FILE")]
        pin_file: Option<PathBuf>,
    },
    /// Resynchronise a device from two consecutive codes; without codes, reset its recorded clock drift
    Resync {
        #[command(flatten)]
        whose: Whose,
        /// Factor number, from `factor list`
        number: u64,
        /// The first code
        #[arg(requires = "second")]
        first: Option<String>,
        /// Second code, the one right after the first
        second: Option<String>,
    },
    /// Send a test notification to a handset; its person confirms it by tapping
    Test {
        #[command(flatten)]
        whose: Whose,
        /// Factor number, from `factor list`
        number: u64,
    },
    /// Unlock a person: clear wrong-code counts, stopped approvals and remembered devices
    Release(Whose),
    /// Invite a person to enrol a handset or an authenticator app; cancels an earlier invitation
    Invite {
        #[command(flatten)]
        whose: Whose,
        /// Factor to enrol [default: the site's setting for newcomers, else a handset]
        #[arg(long, value_parser = ["approval", "totp"])]
        to: Option<String>,
        /// Courier that delivers the invitation [default: print it here]
        #[arg(long, value_name = "COURIER")]
        send_by: Option<String>,
        /// Cancel the open invitation instead
        #[arg(long)]
        withdraw: bool,
    },
    /// Confirm a new handset by the reference it shows, as read out by the person
    Confirm {
        #[command(flatten)]
        whose: Whose,
        /// Reference shown on the handset
        reference: String,
    },
    /// Rename a factor
    Rename {
        #[command(flatten)]
        whose: Whose,
        /// Factor number, from `factor list`
        number: u64,
        /// The new name
        label: String,
    },
    /// Remove a factor
    Remove {
        #[command(flatten)]
        whose: Whose,
        /// Factor number, from `factor list`
        number: u64,
    },
}

#[derive(Debug, Subcommand)]
pub(crate) enum Push {
    /// List the keys that push messages are signed with, and how many handsets use each
    Keys,
    /// Make a new signing key; handsets take it over when their page is next opened
    NewKey,
}
