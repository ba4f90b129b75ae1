//! What may refuse a plan, or must be said of it in so many words.

mod freezes;
mod terms;
mod ways;
