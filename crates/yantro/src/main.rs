//! `yantro`: the command line, and the server in one program.
//!
//! Results go to standard output, talk to standard error. Every command is a function from its
//! arguments and a [`say::Say`] to an [`exit::Exit`].

mod client;
mod commands;
mod exit;
mod foreign;
mod marks;
mod reader;
mod say;
#[cfg(test)]
mod tests;

use std::path::PathBuf;

use clap::{Parser, Subcommand};
use yantro_core::words::kinds::Wish;

use commands::{
    acts, amend, attend, board, decisions, demo, estate, follow, logs, power, procedures, reach, rehearse, runs, serve, survey,
};

/// Plans and runs stop, start and restart sequences across services that rely on each other, each step proven.
#[derive(Parser)]
#[command(name = "yantro", version, max_term_width = 100, after_help = exit::HELP)]
struct Cli {
    #[command(flatten)]
    global: Global,
    #[command(subcommand)]
    command: Command,
}

/// What every command takes.
#[derive(clap::Args, Clone)]
pub struct Global {
    /// The server's data folder: its address and token are found there.
    #[arg(long, global = true, env = "YANTRO_DATA", value_name = "FOLDER")]
    data: Option<PathBuf>,
    /// Print JSON for machines.
    #[arg(long, global = true)]
    json: bool,
    /// Who you are, for the record (default: your account's name).
    #[arg(long, global = true, env = "YANTRO_WHO", value_name = "NAME")]
    who: Option<String>,
}

#[derive(Subcommand)]
enum Command {
    /// Find all faults of an estate file; needs no server.
    Vet(estate::Vet),
    /// Load an estate file as a new edition.
    Load(estate::Load),
    /// Print the text of the estate, with all that was edited.
    Estate(estate::Estate),
    /// List the editions of the estate, the newest first.
    Editions(estate::Editions),
    /// Show how everything stands.
    Board(board::Board),
    /// Show what a service relies on and what relies on it.
    Relations(board::Relations),
    /// Show what services will really be started with, and where each value is written.
    StartedWith(board::StartedWith),
    /// Work out a sequence and show it; touches nothing.
    Preview(acts::Preview),
    /// Start services, with what they need.
    Start(acts::Wanted),
    /// Stop services, with what relies on them.
    Stop(acts::Wanted),
    /// Restart services, with what relies on them.
    Restart(acts::Wanted),
    /// Have services re-read their configuration.
    Reload(acts::Wanted),
    /// Shut hosts down, with all on them and all that relies on them.
    ShutDown(acts::OfHosts),
    /// Power hosts on.
    PowerOn(acts::OfHosts),
    /// Reboot hosts; all that was up on them, and all that relies on it, comes back.
    Reboot(acts::OfHosts),
    /// Take hosts down and up again by their power.
    PowerCycle(acts::OfHosts),
    /// Carry out a further act of services: drain, re-read, at-boot-on …
    Act(acts::FurtherAct),
    /// Start what should be up and stop what should be down.
    BringToExpected(acts::Wanted),
    /// Start one service attended: its own output comes through here.
    Attend(attend::Attend),
    /// List the procedures of the estate.
    Procedures(procedures::Procedures),
    /// Show a procedure: what it asks, and its lines.
    Procedure(procedures::Procedure),
    /// Change a procedure, as a new edition of the estate.
    Amend(amend::Amend),
    /// Show a procedure beside another, or beside itself in another edition.
    Difference(amend::DifferenceOf),
    /// Carry out a procedure.
    CarryOut(procedures::CarryOut),
    /// Play a wish or a procedure against its forecast; touches nothing.
    Rehearse(rehearse::Rehearse),
    /// Watch a run until it ends.
    Watch(follow::Watch),
    /// List runs, the newest first.
    Runs(runs::Runs),
    /// Show a run with its evidence.
    Show(runs::Show),
    /// Print the report of a run: Markdown, JSON, CSV or JUnit XML.
    Report(runs::Report),
    /// Show one run beside another, step by step.
    Compare(runs::Compare),
    /// Hold a run: begin nothing new.
    Hold(decisions::OnRun),
    /// Let a held run go on.
    Resume(decisions::OnRun),
    /// Try a failed step again.
    Again(decisions::OnStep),
    /// Leave out a failed step and all that waits on it.
    PassOver(decisions::OnStepWhy),
    /// Take a failed step as good, on your word.
    Vouch(decisions::OnStepWhy),
    /// End a service by force, where that was asked.
    Force(decisions::OnStep),
    /// Answer what a step asks.
    Answer(procedures::Answer),
    /// Put everything back as it was found.
    PutBack(procedures::PutBack),
    /// Have another procedure take over.
    Divert(procedures::Divert),
    /// Write a note on a run, ended or not.
    Note(procedures::Note),
    /// Say that you have a run from now on.
    TakeOn(procedures::TakeOn),
    /// Let go of one service of a held run: its steps are passed over, others may act on it.
    Release(decisions::Release),
    /// End a run here.
    GiveUp(decisions::OnRunWhy),
    /// Take a forbidden log line as known: it no longer keeps its service ailing.
    Acknowledge(decisions::Acknowledge),
    /// Act on a host from now on, in the place of another server or of a copy of this one.
    TakeOver(decisions::TakeOver),
    Reach(reach::Reach),
    /// Look through a host: what runs there, and how it would be described.
    LookThrough(survey::LookThrough),
    /// The one switch that holds every run.
    Standstill(decisions::Standstill),
    /// Show or follow the logs of several services together.
    Logs(logs::Logs),
    /// Show who did what.
    Trail(runs::Trail),
    /// Print a link for signing in to the console, good once.
    SignIn(serve::SignIn),
    /// Ask a power controller for something, or wake a host: what the server does to power a host on and off.
    Power(power::Power),
    /// Run the server.
    Serve(serve::Serve),
    /// Run the server with a demo estate of real processes.
    Demo(demo::Demo),
    /// Print the JSON Schema of the estate file.
    Schema(estate::Schema),
    /// Print completions for a shell.
    Completions(commands::completions::Completions),
}

fn main() -> std::process::ExitCode {
    let cli = Cli::parse();
    let say = say::Say::new(cli.global.json);
    let outcome = match cli.command {
        Command::Vet(c) => c.run(&say),
        Command::Load(c) => c.run(&cli.global, &say),
        Command::Estate(c) => c.run(&cli.global, &say),
        Command::Editions(c) => c.run(&cli.global, &say),
        Command::Board(c) => c.run(&cli.global, &say),
        Command::Relations(c) => c.run(&cli.global, &say),
        Command::StartedWith(c) => c.run(&cli.global, &say),
        Command::Preview(c) => c.run(&cli.global, &say),
        Command::Start(c) => c.run("start", &cli.global, &say),
        Command::Stop(c) => c.run("stop", &cli.global, &say),
        Command::Restart(c) => c.run("restart", &cli.global, &say),
        Command::Reload(c) => c.run("reload", &cli.global, &say),
        Command::ShutDown(c) => c.run(Wish::Stop, &cli.global, &say),
        Command::PowerOn(c) => c.run(Wish::Start, &cli.global, &say),
        Command::Reboot(c) => c.run(Wish::Restart, &cli.global, &say),
        Command::PowerCycle(c) => c.run(Wish::PowerCycle, &cli.global, &say),
        Command::Power(c) => c.run(&say),
        Command::Act(c) => c.run(&cli.global, &say),
        Command::BringToExpected(c) => c.run("bring-to-expected", &cli.global, &say),
        Command::Attend(c) => c.run(&cli.global, &say),
        Command::Procedures(c) => c.run(&cli.global, &say),
        Command::Procedure(c) => c.run(&cli.global, &say),
        Command::Amend(c) => c.run(&cli.global, &say),
        Command::Difference(c) => c.run(&cli.global, &say),
        Command::CarryOut(c) => c.run(&cli.global, &say),
        Command::Rehearse(c) => c.run(&cli.global, &say),
        Command::Answer(c) => c.run(&cli.global, &say),
        Command::PutBack(c) => c.run(&cli.global, &say),
        Command::Divert(c) => c.run(&cli.global, &say),
        Command::Note(c) => c.run(&cli.global, &say),
        Command::TakeOn(c) => c.run(&cli.global, &say),
        Command::Watch(c) => c.run(&cli.global, &say),
        Command::Runs(c) => c.run(&cli.global, &say),
        Command::Show(c) => c.run(&cli.global, &say),
        Command::Report(c) => c.run(&cli.global, &say),
        Command::Compare(c) => c.run(&cli.global, &say),
        Command::Hold(c) => c.run(yantro_core::run::DecisionKind::Hold, &cli.global, &say),
        Command::Resume(c) => c.run(yantro_core::run::DecisionKind::Resume, &cli.global, &say),
        Command::Again(c) => c.run(decisions::StepDecision::Again, &cli.global, &say),
        Command::PassOver(c) => c.run(decisions::StepDecision::PassOver, &cli.global, &say),
        Command::Vouch(c) => c.run(decisions::StepDecision::Vouch, &cli.global, &say),
        Command::Force(c) => c.run(decisions::StepDecision::Force, &cli.global, &say),
        Command::Release(c) => c.run(&cli.global, &say),
        Command::GiveUp(c) => c.run(&cli.global, &say),
        Command::Acknowledge(c) => c.run(&cli.global, &say),
        Command::TakeOver(c) => c.run(&cli.global, &say),
        Command::Reach(c) => c.run(&cli.global, &say),
        Command::LookThrough(c) => c.run(&cli.global, &say),
        Command::Standstill(c) => c.run(&cli.global, &say),
        Command::Logs(c) => c.run(&cli.global, &say),
        Command::Trail(c) => c.run(&cli.global, &say),
        Command::SignIn(c) => c.run(&cli.global, &say),
        Command::Serve(c) => c.run(&cli.global, &say),
        Command::Demo(c) => c.run(&cli.global, &say),
        Command::Schema(c) => c.run(),
        Command::Completions(c) => c.run(),
    };
    match outcome {
        Ok(exit) => exit.into(),
        Err(error) => {
            say.failure(&error);
            error.exit().into()
        }
    }
}
