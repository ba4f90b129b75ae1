//! The outpost: the far side of an SSH connection, doing there what the server does where it runs.
//!
//! Started by the server over its one channel to a host, it speaks JSON-RPC 2.0 on its standard input and
//! output, a line each, and ends with the channel. What it started goes on: a recorder stands beside each act, which is this
//! program, too (`--record`), so that one thing is carried and not two.

use std::process::ExitCode;

fn main() -> ExitCode {
    if std::env::args().nth(1).as_deref() == Some(yantro_reach::outpost::AS_RECORDER) {
        yantro_recorder::record();
        return ExitCode::SUCCESS;
    }
    yantro_reach::outpost::main(std::env::args().skip(1))
}
