//! A sign of life where an answer takes longer than a moment.

use std::sync::mpsc::{RecvTimeoutError, Sender, channel};
use std::thread::JoinHandle;
use std::time::Duration;

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};

/// What is done within it needs no sign.
const MOMENT: Duration = Duration::from_secs(1);

/// Turns on a terminal until it is dropped.
pub(crate) struct Working {
    end: Option<Sender<()>>,
    turning: Option<JoinHandle<()>>,
}

/// Says what is done, from the first second on; nothing where no one is to be told.
pub(crate) fn working(what: &'static str) -> Working {
    if super::is_quiet() {
        return Working { end: None, turning: None };
    }
    let (end, ended) = channel();
    let turn = move || {
        if !matches!(ended.recv_timeout(MOMENT), Err(RecvTimeoutError::Timeout)) {
            return;
        }
        let bar = ProgressBar::with_draw_target(None, ProgressDrawTarget::stderr_with_hz(4));
        let style = ProgressStyle::with_template("{spinner} {msg}");
        bar.set_style(style.unwrap_or_else(|_| ProgressStyle::default_spinner()));
        bar.set_message(what);
        while let Err(RecvTimeoutError::Timeout) = ended.recv_timeout(MOMENT / 4) {
            bar.tick();
        }
        bar.finish_and_clear();
    };
    Working { end: Some(end), turning: std::thread::Builder::new().spawn(turn).ok() }
}

impl Drop for Working {
    fn drop(&mut self) {
        drop(self.end.take());
        // The line is clear before an answer is.
        if let Some(turning) = self.turning.take() {
            let _ = turning.join();
        }
    }
}
