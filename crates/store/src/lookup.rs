//! Maps that each login looks into.

use foldhash::fast::RandomState;
use std::collections::{HashMap, HashSet};

/// A map with a quick hash, seeded anew at each start: for keys that no stranger can put in, or few at a
/// time.
pub type Lookup<K, V> = HashMap<K, V, RandomState>;

/// As [`Lookup`], of keys alone.
pub type LookupSet<K> = HashSet<K, RandomState>;
