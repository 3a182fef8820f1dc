//! What `person` and `factor` take.

use clap::{Args, Subcommand};
use std::path::PathBuf;

#[derive(Debug, Subcommand)]
pub(crate) enum Person {
    /// List people
    List {
        /// Only those with this in login name, name or a group, or of this source
        #[arg(long)]
        search: Option<String>,
        /// Only those who are this far
        #[arg(long, value_parser = ["not-yet", "invited", "expired", "waiting", "enrolled", "proven", "locked", "suspended"])]
        state: Option<String>,
        /// Only those without any factor that counts
        #[arg(long)]
        without_factor: bool,
    },
    /// How many people are how far on the way to a second factor
    Progress,
    /// Add a person, or bring one up to date; what is not given stays
    Add {
        /// The login name
        login: String,
        /// The source that knows the person
        #[arg(long, default_value = "roster")]
        source: String,
        /// The name for display
        #[arg(long)]
        name: Option<String>,
        /// Groups, for people of the roster
        #[arg(long, value_delimiter = ';')]
        groups: Option<Vec<String>>,
        /// Where codes by mail go
        #[arg(long)]
        mail: Option<String>,
        /// Where codes by text message and voice go
        #[arg(long)]
        phone: Option<String>,
        /// The language that the person reads
        #[arg(long)]
        language: Option<String>,
        /// Read a password for a person of the roster from a file; `-` for standard input
        #[arg(long, value_name = "FILE")]
        password_file: Option<PathBuf>,
    },
    /// Compare people with a group of a directory: who joined, who left, what changed
    Sync {
        /// The directory
        directory: String,
        /// The group, by name or whole DN
        #[arg(long)]
        group: String,
        /// What happens to people known here who are not in the group
        #[arg(long, default_value = "keep", value_parser = ["keep", "suspend", "remove"])]
        leavers: String,
        /// Do it; without this it is only looked at
        #[arg(long)]
        apply: bool,
    },
    /// Keep a person out at once, whatever the source says
    Suspend {
        #[command(flatten)]
        whose: Whose,
        /// Let the person in again
        #[arg(long)]
        lift: bool,
    },
    /// Forget a person with all factors; `person undo` brings them back
    Remove {
        #[command(flatten)]
        whose: Whose,
        /// Do it without asking
        #[arg(long)]
        yes: bool,
    },
    /// Change many people from a list: invite, remove, rename, release, suspend, lift
    Edit {
        /// The CSV file with `login`, `action`, `source`, `factor`, `value`; `-` for standard input
        file: PathBuf,
        /// Look at it only
        #[arg(long)]
        preview: bool,
    },
    /// List the newest changes of people, with their numbers
    Changes,
    /// Take a change back
    Undo {
        /// Its number
        number: u64,
    },
    /// Show a person with all factors
    Show {
        /// The login name
        login: String,
    },
    /// Import people from CSV: all, or none if a line is wrong
    Import {
        /// The CSV file; `-` for standard input
        file: PathBuf,
        /// Look at it only
        #[arg(long)]
        preview: bool,
    },
}

/// Whose factor it is.
#[derive(Debug, Args)]
pub(crate) struct Whose {
    /// The login name
    pub(crate) person: String,
    /// The source that knows the person, where several do
    #[arg(long)]
    pub(crate) source: Option<String>,
}

#[derive(Debug, Subcommand)]
pub(crate) enum Factor {
    /// List a person's factors: state, drift, lock, last use
    List(Whose),
    /// Add a device by time (`totp`) or by count (`hotp`); its seed is shown once
    Add {
        #[command(flatten)]
        whose: Whose,
        /// What kind of codes it makes
        #[arg(long, default_value = "totp", value_parser = ["totp", "hotp"])]
        kind: String,
        /// What the person calls it; one of the same kind and name is replaced
        #[arg(long)]
        label: Option<String>,
        /// Digits of its codes
        #[arg(long, default_value_t = 6)]
        digits: u8,
        /// Seconds that a code by time lives
        #[arg(long, default_value_t = 30)]
        period: u32,
        /// The hash of its codes
        #[arg(long, default_value = "sha1", value_parser = ["sha1", "sha256", "sha512"])]
        algorithm: String,
        /// The counter that a device by count begins with
        #[arg(long)]
        counter: Option<u64>,
        /// Read the seed of a device that has one already from a file, in base32; `-` for standard input [default: a new seed]
        #[arg(long, value_name = "FILE")]
        seed_file: Option<PathBuf>,
    },
    /// Make a new list of ten recovery codes, each good once; an old list ends
    Recovery(Whose),
    /// Issue a temporary code
    Temporary {
        #[command(flatten)]
        whose: Whose,
        /// How long it works, such as `30m`, `8h` or `2d`
        #[arg(long = "for", value_name = "TIME")]
        lasts: String,
        /// Why the person needs it
        #[arg(long)]
        reason: String,
        /// How often it may be used
        #[arg(long, default_value_t = 1)]
        uses: u32,
        /// Its digits
        #[arg(long, default_value_t = 8)]
        digits: u8,
    },
    /// Set the PIN before a device's codes, or take it out
    Pin {
        #[command(flatten)]
        whose: Whose,
        /// The factor's number
        number: u64,
        /// Take the PIN out
        #[arg(long)]
        remove: bool,
        /// Read the PIN from a file; `-` for standard input [default: asked for]
        #[arg(long, value_name = "FILE")]
        pin_file: Option<PathBuf>,
    },
    /// Find out where a device is by two codes that it shows one after the other, or forget what is known of its clock
    Resync {
        #[command(flatten)]
        whose: Whose,
        /// The factor's number
        number: u64,
        /// The first code
        #[arg(requires = "second")]
        first: Option<String>,
        /// The next one
        second: Option<String>,
    },
    /// Release a person: wrong codes, stopped approvals and remembered devices are forgotten
    Release(Whose),
    /// Invite a person to a handset or an authenticator app; an earlier invitation ends
    Invite {
        #[command(flatten)]
        whose: Whose,
        /// What to [default: as the site says for newcomers, else a handset]
        #[arg(long, value_parser = ["approval", "totp"])]
        to: Option<String>,
        /// The courier that brings it [default: it is handed over on screen]
        #[arg(long, value_name = "COURIER")]
        send_by: Option<String>,
        /// End the open invitation instead
        #[arg(long)]
        withdraw: bool,
    },
    /// Confirm a new handset: type the reference that it shows, as the person reads it out
    Confirm {
        #[command(flatten)]
        whose: Whose,
        /// The reference
        reference: String,
    },
    /// Give a factor another name
    Rename {
        #[command(flatten)]
        whose: Whose,
        /// The factor's number
        number: u64,
        /// The new name
        label: String,
    },
    /// Remove a factor
    Remove {
        #[command(flatten)]
        whose: Whose,
        /// The factor's number
        number: u64,
    },
}
