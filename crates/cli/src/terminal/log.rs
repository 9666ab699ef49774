//! What the program does, on standard error, for those who ask.

use std::io::Write;

use log::LevelFilter;

/// Begins the log: nothing without `--verbose`, what is read and how long it takes with it, every file with a second one.
pub(crate) fn begin(verbose: u8) {
    let level = match verbose {
        0 => LevelFilter::Off,
        1 => LevelFilter::Info,
        _ => LevelFilter::Debug,
    };
    env_logger::Builder::new()
        .filter_level(level)
        .format(|out, record| {
            let level = record.level().as_str().to_ascii_lowercase();
            writeln!(out, "{level}: {}", mivask_show::safe(&record.args().to_string()))
        })
        .init();
}
