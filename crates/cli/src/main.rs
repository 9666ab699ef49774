//! The `mivask` program: arguments in, an answer on standard output, an exit status.

mod args;
mod change;
mod commands;
mod end;
mod facts;
mod load;
mod mistakes;
mod options;
mod output;
mod reach;
mod table;

use std::io::{self, ErrorKind, Write};
use std::process::ExitCode;

use anstream::AutoStream;
use clap::Parser;

use args::Args;
use end::{End, Failure};

fn main() -> ExitCode {
    let args = Args::parse();
    let choice = args.color.choice();
    let mut out = io::BufWriter::new(AutoStream::new(io::stdout().lock(), choice));
    let mut err = AutoStream::new(io::stderr().lock(), choice);
    let end = commands::run(&args, &mut out, &mut err);
    match end.and_then(|end| out.flush().map(|()| end).map_err(Failure::Output)) {
        Ok(end) => end.into(),
        Err(Failure::Output(error)) if error.kind() == ErrorKind::BrokenPipe => End::Answered.into(),
        Err(failure) => {
            // Where standard error is gone too, the exit status still tells.
            let _ = failure.report(&mut err);
            End::Unusable.into()
        }
    }
}
