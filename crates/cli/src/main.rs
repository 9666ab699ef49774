//! The `mivask` program: arguments in, an answer on standard output, an exit status.

#![forbid(unsafe_code)]
#![allow(
    rustdoc::broken_intra_doc_links,
    reason = "comments on arguments are help: their brackets are those of a usage line"
)]

mod acts;
mod args;
mod change;
mod commands;
mod complete;
mod containers;
mod dataset;
mod diagnostics;
mod dispatch;
mod end;
mod facts;
mod here;
mod images;
mod inputs;
mod load;
mod logged;
mod next_word;
mod options;
mod output;
mod plain;
mod policies;
mod reach;
mod running;
mod sources;
mod starter;
mod table;
mod terminal;
mod workers;

use std::io::{ErrorKind, Write};
use std::process::ExitCode;
use std::time::Instant;

use clap_complete::CompleteEnv;

use commands::completions;
use end::{End, Failure};
use options::Paging;

/// musl's own allocator takes four times as long where several threads work.
#[cfg(target_env = "musl")]
#[global_allocator]
static ALLOCATOR: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// Bytes of stack, whatever `ulimit -s` leaves the first thread: recursion over input is bounded for it.
const STACK: usize = 8 << 20;

fn main() -> ExitCode {
    // A user namespace can be entered only by a process of one thread (unshare(2)).
    if std::env::args_os().any(|word| word == "confirm") {
        return run();
    }
    match std::thread::Builder::new().name("main".to_owned()).stack_size(STACK).spawn(run) {
        Ok(thread) => thread.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)),
        Err(_) => run(),
    }
}

/// The answer with names, which a document has beside its ids once it is whole.
fn named(args: &args::Args, out: &mut dyn Write, err: &mut dyn Write) -> Result<End, Failure> {
    let mut answer = Vec::new();
    let end = dispatch::run(args, &mut answer, err);
    let is_done = match terminal::names().filter(|_| answer.first() == Some(&b'{')) {
        Some(names) => mivask_show::json::with_names(out, &answer, names).map_err(Failure::Output)?,
        None => false,
    };
    if !is_done {
        out.write_all(&answer).map_err(Failure::Output)?;
    }
    end
}

fn run() -> ExitCode {
    CompleteEnv::with_factory(args::command).var(completions::VARIABLE).bin("mivask").complete();
    let args = match args::typed(std::env::args_os().collect()) {
        Ok(args) => args,
        Err(told) => return args::tell(&told),
    };
    let begun = Instant::now();
    terminal::begin_log(args.verbose);
    terminal::keep_quiet(args.quiet);
    terminal::list_all_assumptions(args.all_assumptions);
    terminal::list_all(args.all);
    let mut err = terminal::messages(args.color, args.quiet);
    let paging = if args.command.is_live() { Paging::Never } else { args.pager };
    let mut out = terminal::answers(args.color, paging);
    terminal::call_by_name(args.names);
    let end = if args.names && !args.command.lasts() {
        named(&args, &mut out, &mut err)
    } else {
        dispatch::run(&args, &mut out, &mut err)
    };
    let end = end.and_then(|end| out.flush().map(|()| end).map_err(Failure::Output));
    // A pager shows the answer before an error is given below it.
    drop(out);
    log::info!("done in {} ms", begun.elapsed().as_millis());
    match end {
        Ok(end) => end.into(),
        Err(Failure::Output(error)) if error.kind() == ErrorKind::BrokenPipe => End::Answered.into(),
        Err(failure) => {
            // Where standard error is gone too, the exit status still tells.
            let _ = failure.report(&mut *err);
            End::Unusable.into()
        }
    }
}
