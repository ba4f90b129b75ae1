//! A loaded estate with its graph.

use yantro_core::{graph::EstateGraph, guards::Newest, model::Estate};

/// A loaded estate with its graph.
#[derive(Debug)]
pub struct Loaded {
    /// Its number.
    pub edition: u64,
    /// The file as it was.
    pub text: String,
    /// The folder its relative paths start from.
    pub folder: String,
    /// The estate.
    pub estate: Estate,
    /// What relies on what.
    pub graph: EstateGraph,
}

impl Loaded {
    pub(crate) fn new(edition: u64, text: String, folder: String, estate: Estate) -> Self {
        Self { edition, text, folder, graph: EstateGraph::new(&estate), estate }
    }

    /// What guards hold open runs against.
    pub(crate) fn newest(&self) -> Newest<'_> {
        Newest { edition: self.edition, estate: &self.estate, graph: &self.graph }
    }
}
