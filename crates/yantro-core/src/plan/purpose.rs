//! What a sequence is worked out for.

use std::collections::BTreeSet;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::words::{
    kinds::Wish,
    name::{Address, ProcedureName},
};

/// What a sequence is worked out for, as it is written.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
struct WrittenFor {
    /// The wish, where it is one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    wish: Option<Wish>,
    /// What was chosen for it.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    chosen: BTreeSet<Address>,
    /// The procedure, where it is one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    procedure: Option<ProcedureName>,
    /// What people call the procedure.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    title: Option<String>,
    /// The further act, where one was asked for by itself.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    act: Option<String>,
    /// The selection that the act is of.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    of: Vec<String>,
}

impl From<For> for WrittenFor {
    fn from(of: For) -> Self {
        match of {
            For::Wish { wish, chosen } => Self { wish: Some(wish), chosen, ..Self::default() },
            For::Procedure { procedure, title } => Self { procedure: Some(procedure), title: Some(title), ..Self::default() },
            For::Act { act, of } => Self { act: Some(act), of, ..Self::default() },
        }
    }
}

impl TryFrom<WrittenFor> for For {
    type Error = &'static str;
    fn try_from(written: WrittenFor) -> Result<Self, Self::Error> {
        match written {
            WrittenFor { wish: Some(wish), chosen, .. } => Ok(For::Wish { wish, chosen }),
            WrittenFor { procedure: Some(procedure), title, .. } => {
                Ok(For::Procedure { title: title.unwrap_or_else(|| procedure.to_string()), procedure })
            }
            WrittenFor { act: Some(act), of, .. } => Ok(For::Act { act, of }),
            _ => Err("a sequence is for a wish, for a procedure or for a further act"),
        }
    }
}

/// What a sequence is worked out for.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(try_from = "WrittenFor", into = "WrittenFor")]
#[schemars(!try_from, !into, with = "WrittenFor")]
pub enum For {
    /// A wish of a selection.
    Wish {
        /// The wish.
        wish: Wish,
        /// What was chosen.
        chosen: BTreeSet<Address>,
    },
    /// A procedure.
    Procedure {
        /// Its name.
        procedure: ProcedureName,
        /// What people call it.
        title: String,
    },
    /// A further act, asked for by itself.
    Act {
        /// The act.
        act: String,
        /// The selection it is of, as it was typed.
        of: Vec<String>,
    },
}

impl For {
    /// What it is, in a few words.
    pub fn says(&self) -> String {
        match self {
            For::Procedure { title, .. } => title.clone(),
            For::Act { act, of } => format!("{act} {}", of.join(", ")),
            For::Wish { wish, chosen } => {
                // Of ten thousand only the first is said, and this is said often.
                let mut all = chosen.iter();
                match (all.next(), all.next(), all.len()) {
                    (Some(one), None, _) => format!("{wish} {one}"),
                    (Some(first), Some(second), 0) => format!("{wish} {first}, {second}"),
                    (Some(first), Some(_), others) => format!("{wish} {first} and {} more", others + 1),
                    (None, ..) => wish.to_string(),
                }
            }
        }
    }
    /// The word that is typed to begin it.
    pub fn word(&self) -> &str {
        match self {
            For::Procedure { procedure, .. } => procedure.as_str(),
            For::Act { act, .. } => act,
            For::Wish { wish, .. } => wish.word(),
        }
    }
}
