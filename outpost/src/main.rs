//! The outpost: the far side of an SSH connection, doing there what the server does where it runs.
//!
//! Started by the server over its one channel to a host, it speaks JSON-RPC 2.0 on its standard input and
//! output, a line each, and ends with the channel. What it started goes on: a recorder stands beside each act.

fn main() -> std::process::ExitCode {
    yantro_reach::outpost::main(std::env::args().skip(1))
}
