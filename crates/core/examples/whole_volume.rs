//! Everything below a directory in one pass: what `press` can read on the volume, and which check decides.

#![expect(clippy::print_stdout, reason = "an example talks to whoever runs it")]

mod common;

use mivask_core::prepare;
use mivask_core::question::{Cell, Column, sweep};

fn main() -> Result<(), Box<dyn std::error::Error>> {
    let stage = prepare::stage(&common::scene()?);
    let press = stage.actor("press")?;
    sweep(&stage, press, b"/in", |found| {
        let ending = found.endings.of(Column::Read);
        let answer = match ending.cell {
            Cell::Void => return,
            Cell::Allowed => "can be read".to_owned(),
            Cell::Denied(errno) => format!("cannot be read: {errno}"),
            Cell::Open => "hangs on a fact nobody told".to_owned(),
        };
        let check = ending.check.map_or("", |check| check.code());
        println!("{:<16} {answer} ({check})", String::from_utf8_lossy(found.path));
    })?;
    Ok(())
}
