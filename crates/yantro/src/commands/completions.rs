//! `yantro completions`

use clap::CommandFactory;

use crate::exit::{Exit, Outcome};

/// Print completions for a shell.
#[derive(clap::Args)]
pub struct Completions {
    /// The shell.
    shell: clap_complete::Shell,
}

impl Completions {
    pub fn run(self) -> Outcome {
        clap_complete::generate(self.shell, &mut crate::Cli::command(), "yantro", &mut std::io::stdout());
        Ok(Exit::Good)
    }
}
