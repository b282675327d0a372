//! What readers of a result should be told: what is doubtful in the data or in the request.
//!
//! A note says in a few plain words what was noticed, where it touches a figure, with what deals with it. Its
//! topic says how telling it is: where there is room for few, the most telling come first.
//!
//! ```
//! use oeuvre_columns::{Note, Topic};
//!
//! let mut notes = [Note::new(Topic::Values, "mean(fare): 9 of 10 rows have a value"), Note::new(Topic::NoSuchLabel, "no row has route = 'SEK'")];
//! notes.sort();
//! assert_eq!(notes[0].topic, Topic::NoSuchLabel);
//! ```

use crate::choices;

choices! {
    /// What a note is about, the most telling first.
    #[derive(Hash, PartialOrd, Ord)]
    pub enum Topic {
        NoSuchLabel = "no-such-label": "The request asks for a text that no row has",
        Currencies = "currencies": "What is added up is not of one currency",
        Twice = "twice": "The same rows came in twice",
        Alike = "alike": "Labels that may be meant to be one",
        Reading = "reading": "Numbers, dates or texts that could be read otherwise",
        Incomplete = "incomplete": "A first or last period that does not have all its days",
        Gaps = "gaps": "Periods without rows",
        Request = "request": "The request may mean something else than it says",
        Joined = "joined": "Labels that were joined",
        Values = "values": "Results of fewer values than rows",
        Zone = "zone": "Times that were moved to a zone",
        Other = "other": "Anything else",
    }
}

/// Something that readers should be told.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Note {
    /// What it is about.
    pub topic: Topic,
    /// What is said.
    pub text: String,
}

impl Note {
    /// A note.
    pub fn new(topic: Topic, text: impl Into<String>) -> Note {
        Note { topic, text: text.into() }
    }
}
