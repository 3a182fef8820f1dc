//! Many traces in one row of the records: what lists need (texts and heads) apart from steps and facts (bodies).
//!
//! A row of its own with an index for each thing that is asked for costs a login more than everything else of it. In a chunk each text
//! stands once. Keys (texts that are asked for), marks (which of them each trace has) and references stand before the rest: they say
//! which chunks a question need not look into. No SQL here: see the neighbours.

use crate::lookup::Lookup;
use bivector_api::traces::TraceRow;
use bivector_model::Cause;
use bivector_model::facts::Facts;
use bivector_model::trace::{Hop, Origin, Outcome, Step, Tone, Trace};
use memchr::memmem;
use serde::{Deserialize, Serialize, Serializer};
use std::cell::RefCell;

/// Traces in one chunk at most.
pub(crate) const FULL: usize = 512;
/// Before, between and behind the texts of a chunk: no byte of UTF-8.
const EDGE: u8 = 0xff;

/// A trace on its way to the records.
#[derive(Debug, Clone)]
pub struct Entry {
    /// As it is listed.
    pub row: TraceRow,
    /// Steps and facts, written.
    pub body: Vec<u8>,
    /// The number of an earlier trace of the same login, in whose place it stands.
    pub replaces: Option<u64>,
}

impl Entry {
    /// Of a trace.
    pub fn of(id: u64, trace: Trace) -> Self {
        // A packet that never became a login has learned nothing.
        let body = if trace.outcome == Outcome::Silent { write_body(&trace.steps, None) } else { with_facts(&trace.steps, &trace.facts) };
        Entry { row: TraceRow::of(id, trace), body, replaces: None }
    }
}

/// Writes steps and facts; the facts by way of a buffer that each thread keeps.
fn with_facts(steps: &[Step], facts: &Facts) -> Vec<u8> {
    thread_local! {
        static WRITTEN: RefCell<Vec<u8>> = const { RefCell::new(Vec::new()) };
    }
    WRITTEN.with_borrow_mut(|written| {
        written.clear();
        // Text and numbers, which can always be written.
        let _ = serde_json::to_writer(&mut *written, facts);
        write_body(steps, std::str::from_utf8(written).ok())
    })
}

/// Bytes that steps and facts usually take; longer ones take a little more time.
const USUAL_BODY: usize = 4096;
/// Bytes that a written length takes at most.
const LENGTH: usize = 10;

/// A chunk as it is kept.
#[derive(Debug, Default)]
pub(crate) struct Written {
    pub(super) first: u64,
    pub(super) last: u64,
    pub(super) began_us: u64,
    pub(super) ended_us: u64,
    pub(super) traces: usize,
    pub(super) keys: Vec<u8>,
    pub(super) marks: Vec<u8>,
    pub(super) refs: Vec<u8>,
    pub(super) texts: Vec<u8>,
    pub(super) heads: Vec<u8>,
    pub(super) bodies: Vec<u8>,
}

/// What is kept of a row: numbers, and places among the texts, counted from 1.
#[derive(Debug, Clone, Copy, Serialize, Deserialize)]
struct Head {
    id: u64,
    began_us: u64,
    took_us: u64,
    revision: u64,
    reference: u16,
    origin: u16,
    gateway: u16,
    sender: u16,
    chain: u16,
    typed_name: u16,
    login: u16,
    person: u16,
    method: u16,
    source: u16,
    outcome: u16,
    cause: u16,
    grant: u16,
    factor: u16,
    waived: u16,
}

/// The texts of a chunk, each once.
#[derive(Default)]
struct Texts<'a> {
    places: Lookup<&'a str, u16>,
    bytes: Vec<u8>,
}

impl<'a> Texts<'a> {
    fn place(&mut self, text: &'a str) -> u16 {
        let next = self.places.len() as u16 + 1;
        *self.places.entry(text).or_insert_with(|| {
            self.bytes.extend_from_slice(text.as_bytes());
            self.bytes.push(EDGE);
            next
        })
    }

    fn place_of(&mut self, text: Option<&'a str>) -> u16 {
        text.map_or(0, |text| self.place(text))
    }
}

/// What can be asked for, each with its place among a trace's marks.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Key {
    Gateway,
    Chain,
    Origin,
    Outcome,
    Cause,
    Login,
    Revision,
}

/// Marks of one trace: a place among the keys for each, counted from 1; 0 for none.
const MARKS: usize = 7;

/// A revision as a key.
fn revision_key(revision: u64) -> String {
    format!("#{revision}")
}

/// Writes traces, in the order of their numbers, as one chunk; at most [`FULL`] of them.
pub(super) fn write(entries: &[Entry]) -> Written {
    let start = || Texts { bytes: vec![EDGE], ..Texts::default() };
    let (mut texts, mut keys) = (start(), start());
    let revisions: Vec<String> = entries.iter().map(|entry| revision_key(entry.row.revision)).collect();
    let (mut marks, mut refs) = (Vec::with_capacity(entries.len() * MARKS * 2), vec![EDGE]);
    for (Entry { row, .. }, revision) in entries.iter().zip(&revisions) {
        // In the order of `Key`.
        let of: [u16; MARKS] = [
            keys.place(&row.gateway),
            keys.place(&row.chain),
            keys.place(row.origin.slug()),
            keys.place(row.outcome.slug()),
            keys.place_of(row.cause.map(Cause::slug)),
            keys.place(&row.login),
            keys.place(revision),
        ];
        marks.extend(of.iter().flat_map(|mark| mark.to_le_bytes()));
        refs.extend_from_slice(row.reference.as_bytes());
        refs.push(EDGE);
    }
    let heads: Vec<Head> = entries
        .iter()
        .map(|Entry { row, .. }| Head {
            id: row.id,
            began_us: row.began_us,
            took_us: row.took_us,
            revision: row.revision,
            reference: texts.place(&row.reference),
            origin: texts.place(row.origin.slug()),
            gateway: texts.place(&row.gateway),
            sender: texts.place(&row.sender),
            chain: texts.place(&row.chain),
            typed_name: texts.place(&row.typed_name),
            login: texts.place(&row.login),
            person: texts.place_of(row.person.as_deref()),
            method: texts.place(&row.method),
            source: texts.place_of(row.source.as_deref()),
            outcome: texts.place(row.outcome.slug()),
            cause: texts.place_of(row.cause.map(Cause::slug)),
            grant: texts.place_of(row.grant.as_deref()),
            factor: texts.place_of(row.factor.as_deref()),
            waived: texts.place_of(row.waived.as_deref()),
        })
        .collect();
    let bodies: Vec<&[u8]> = entries.iter().map(|entry| entry.body.as_slice()).collect();
    Written {
        first: entries.first().map_or(0, |entry| entry.row.id),
        last: entries.last().map_or(0, |entry| entry.row.id),
        began_us: entries.iter().map(|entry| entry.row.began_us).min().unwrap_or(0),
        ended_us: entries.iter().map(|entry| entry.row.began_us + entry.row.took_us).max().unwrap_or(0),
        heads: postcard::to_stdvec(&heads).unwrap_or_default(),
        bodies: write_bodies(&bodies),
        traces: entries.len(),
        keys: keys.bytes,
        marks,
        refs,
        texts: texts.bytes,
    }
}

/// What a question is about, as far as it tells which chunks to look into.
#[derive(Debug, Default)]
pub(super) struct Wanted {
    /// All of these, of the same trace.
    all: Vec<(Key, String, memmem::Finder<'static>)>,
    /// This reference, or a login that begins so.
    either: Option<(memmem::Finder<'static>, memmem::Finder<'static>)>,
}

impl Wanted {
    /// The key must be this.
    pub(super) fn key(&mut self, key: Key, text: &str) {
        self.all.push((key, text.to_owned(), finder(text, true)));
    }

    /// The revision must be this.
    pub(super) fn revision(&mut self, revision: u64) {
        self.key(Key::Revision, &revision_key(revision));
    }

    /// The reference must be this.
    pub(super) fn reference(&mut self, reference: &str) {
        // No login begins with the edge of a text.
        self.either = Some((finder(reference, true), memmem::Finder::new(&[EDGE, EDGE]).into_owned()));
    }

    /// The reference must be this, or the login begin so.
    pub(super) fn reference_or_login(&mut self, reference: &str, login: &str) {
        self.either = Some((finder(reference, true), finder(login, false)));
    }

    /// Whether a chunk may hold such a trace. Sure where it says no, and but for `either` where it says yes.
    pub(super) fn fits(&self, keys: &[u8], marks: &[u8], refs: &[u8]) -> bool {
        if self.all.iter().any(|(.., finder)| finder.find(keys).is_none()) {
            return false;
        }
        if let Some((reference, login)) = &self.either
            && reference.find(refs).is_none()
            && login.find(keys).is_none()
        {
            return false;
        }
        if self.all.len() < 2 {
            return true;
        }
        // Each is there; whether one trace has all of them, the marks tell.
        let places: Vec<(usize, [u8; 2])> =
            self.all.iter().filter_map(|(key, text, _)| Some((*key as usize * 2, place_of(keys, text)?))).collect();
        marks.chunks_exact(MARKS * 2).any(|of| places.iter().all(|(at, place)| of.get(*at..at + 2) == Some(place)))
    }
}

/// The place of a text among the keys, as it is written in marks.
fn place_of(keys: &[u8], text: &str) -> Option<[u8; 2]> {
    let at = keys.split(|byte| *byte == EDGE).skip(1).position(|key| key == text.as_bytes())?;
    u16::try_from(at + 1).ok().map(u16::to_le_bytes)
}

fn finder(text: &str, as_whole: bool) -> memmem::Finder<'static> {
    let end: &[u8] = if as_whole { &[EDGE] } else { &[] };
    memmem::Finder::new(&[&[EDGE], text.as_bytes(), end].concat()).into_owned()
}

/// The listed part of a chunk, read.
#[derive(Debug)]
pub(super) struct Heads<'a> {
    texts: Vec<&'a str>,
    heads: Vec<Head>,
}

impl<'a> Heads<'a> {
    /// Reads it; nothing where it is damaged.
    pub(super) fn read(texts: &'a [u8], heads: &[u8]) -> Option<Self> {
        let inner = texts.strip_prefix(&[EDGE])?.strip_suffix(&[EDGE])?;
        let texts = inner.split(|byte| *byte == EDGE).map(std::str::from_utf8).collect::<Result<_, _>>().ok()?;
        Some(Heads { texts, heads: postcard::from_bytes(heads).ok()? })
    }

    /// Its traces, in the order of their numbers.
    pub(super) fn iter(&self) -> impl DoubleEndedIterator<Item = HeadRow<'_>> {
        self.heads.iter().enumerate().map(|(at, head)| HeadRow { at, head, texts: &self.texts })
    }
}

/// One trace of a chunk, read no further than is asked for.
#[derive(Clone, Copy)]
pub(super) struct HeadRow<'a> {
    /// Its place in the chunk.
    pub(super) at: usize,
    head: &'a Head,
    texts: &'a [&'a str],
}

impl<'a> HeadRow<'a> {
    fn text(self, place: u16) -> Option<&'a str> {
        self.texts.get(usize::from(place).checked_sub(1)?).copied()
    }

    pub(super) fn id(self) -> u64 {
        self.head.id
    }
    pub(super) fn began_us(self) -> u64 {
        self.head.began_us
    }
    pub(super) fn revision(self) -> u64 {
        self.head.revision
    }
    pub(super) fn reference(self) -> &'a str {
        self.text(self.head.reference).unwrap_or_default()
    }
    pub(super) fn login(self) -> &'a str {
        self.text(self.head.login).unwrap_or_default()
    }
    pub(super) fn gateway(self) -> &'a str {
        self.text(self.head.gateway).unwrap_or_default()
    }
    pub(super) fn chain(self) -> &'a str {
        self.text(self.head.chain).unwrap_or_default()
    }
    pub(super) fn origin(self) -> &'a str {
        self.text(self.head.origin).unwrap_or_default()
    }
    pub(super) fn outcome(self) -> &'a str {
        self.text(self.head.outcome).unwrap_or_default()
    }
    pub(super) fn cause(self) -> Option<&'a str> {
        self.text(self.head.cause)
    }

    /// The whole row; nothing where a word of it is none that this version knows.
    pub(super) fn row(self) -> Option<TraceRow> {
        let owned = |place| self.text(place).map(str::to_owned);
        let text = |place| owned(place).unwrap_or_default();
        let cause = match self.cause() {
            Some(slug) => Some(Cause::from_slug(slug)?),
            None => None,
        };
        Some(TraceRow {
            id: self.head.id,
            reference: text(self.head.reference),
            began_us: self.head.began_us,
            took_us: self.head.took_us,
            origin: Origin::from_slug(self.origin())?,
            gateway: text(self.head.gateway),
            sender: text(self.head.sender),
            chain: text(self.head.chain),
            typed_name: text(self.head.typed_name),
            login: text(self.head.login),
            person: owned(self.head.person),
            method: text(self.head.method),
            source: owned(self.head.source),
            outcome: Outcome::from_slug(self.outcome())?,
            cause,
            grant: owned(self.head.grant),
            factor: owned(self.head.factor),
            waived: owned(self.head.waived),
            revision: self.head.revision,
        })
    }
}

/// Before bodies that are compressed. What is not begins with their number, which is never zero.
const COMPRESSED: u8 = 0;

/// Writes the bodies of a chunk: logins are much alike, so that compressing takes less time than writing them out would.
pub(super) fn write_bodies(bodies: &[&[u8]]) -> Vec<u8> {
    let mut kept = vec![COMPRESSED];
    kept.extend(lz4_flex::compress_prepend_size(&join_bodies(bodies)));
    kept
}

/// Bodies as one, in the format that [`read_bodies`] reads: postcard's, which itself writes bytes one by one.
fn join_bodies(bodies: &[&[u8]]) -> Vec<u8> {
    let mut joined = Vec::with_capacity(bodies.iter().map(|body| body.len() + LENGTH).sum::<usize>() + LENGTH);
    let length = |joined: &mut Vec<u8>, length: usize| {
        let mut buffer = [0; LENGTH];
        joined.extend_from_slice(postcard::to_slice(&length, &mut buffer).unwrap_or_default());
    };
    length(&mut joined, bodies.len());
    for body in bodies {
        length(&mut joined, body.len());
        joined.extend_from_slice(body);
    }
    joined
}

/// What was written of the bodies of a chunk, as it is kept now or as it was before; nothing where it is damaged.
pub(super) fn unpack(kept: Vec<u8>) -> Vec<u8> {
    match kept.split_first() {
        Some((&COMPRESSED, compressed)) => lz4_flex::decompress_size_prepended(compressed).unwrap_or_default(),
        _ => kept,
    }
}

/// The bodies of a chunk, unpacked, in the order of its heads.
pub(super) fn read_bodies(unpacked: &[u8]) -> Vec<&[u8]> {
    postcard::from_bytes(unpacked).unwrap_or_default()
}

/// A step as it is kept.
#[derive(Serialize, Deserialize)]
struct KeptStep<'a> {
    hop: Hop,
    tone: Tone,
    what: &'a str,
    at_us: u64,
    took_us: u64,
    said: &'a str,
    line: Option<u32>,
}

/// Steps, and facts as JSON, which may be of any version.
#[derive(Deserialize)]
struct Body<'a> {
    #[serde(borrow)]
    steps: Vec<KeptStep<'a>>,
    facts: Option<&'a str>,
}

/// A [`Body`] to be written.
#[derive(Serialize)]
struct BodyOf<'a> {
    #[serde(serialize_with = "keep_steps")]
    steps: &'a [Step],
    facts: Option<&'a str>,
}

fn keep_steps<S: Serializer>(steps: &[Step], serializer: S) -> Result<S::Ok, S::Error> {
    serializer.collect_seq(steps.iter().map(|step| KeptStep {
        hop: step.hop,
        tone: step.tone,
        what: &step.what,
        at_us: step.at_us,
        took_us: step.took_us,
        said: &step.said,
        line: step.line,
    }))
}

/// Writes steps and facts.
pub(super) fn write_body(steps: &[Step], facts: Option<&str>) -> Vec<u8> {
    let body = BodyOf { steps, facts };
    let mut buffer = [0; USUAL_BODY];
    match postcard::to_slice(&body, &mut buffer) {
        Ok(written) => written.to_vec(),
        Err(_) => postcard::to_stdvec(&body).unwrap_or_default(),
    }
}

/// Reads steps and facts; no steps where they are damaged.
pub(super) fn read_body(body: &[u8]) -> (Vec<Step>, Option<Facts>) {
    let Ok(body) = postcard::from_bytes::<Body<'_>>(body) else { return (Vec::new(), None) };
    let steps = body.steps.into_iter().map(|step| Step {
        hop: step.hop,
        what: step.what.to_owned().into(),
        tone: step.tone,
        at_us: step.at_us,
        took_us: step.took_us,
        said: step.said.to_owned(),
        line: step.line,
    });
    (steps.collect(), body.facts.and_then(|facts| serde_json::from_str(facts).ok()))
}

/// The same body with one more step; its time is counted from the end of the login.
pub(super) fn with_step(body: &[u8], step: &Step) -> Option<Vec<u8>> {
    let kept: Body<'_> = postcard::from_bytes(body).ok()?;
    let facts = kept.facts;
    let (mut steps, _) = read_body(body);
    let end = steps.last().map_or(0, |last| last.at_us + last.took_us);
    steps.push(Step { at_us: end + step.at_us, ..step.clone() });
    Some(write_body(&steps, facts))
}
