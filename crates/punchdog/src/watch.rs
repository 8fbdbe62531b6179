//! Progress on a terminal, and stopping on Ctrl-C.

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use punchdog_core::progress::Watch;
use std::{
    io::IsTerminal,
    sync::{
        Mutex, PoisonError,
        atomic::{AtomicBool, Ordering},
    },
    time::{Duration, Instant},
};

static STOP: AtomicBool = AtomicBool::new(false);
/// Work that is shorter than this shows no bar.
const PATIENCE: Duration = Duration::from_millis(700);

/// Lets the first Ctrl-C ask for a stop, and the second end the program.
pub(crate) fn listen() {
    let asked = ctrlc::set_handler(|| {
        if STOP.swap(true, Ordering::SeqCst) {
            std::process::exit(2);
        }
        eprintln!("punchdog: stopping at the next safe point; press Ctrl-C again to stop at once");
    });
    if let Err(error) = asked {
        tracing::debug!(%error, "no interrupt handler");
    }
}

/// A bar on standard error, if that is a terminal and the work takes long.
pub(crate) struct Screen {
    started: Instant,
    shown: Mutex<Option<(String, ProgressBar)>>,
    bytes: bool,
    rate: bool,
    /// It shows nothing.
    quiet: bool,
}

impl Screen {
    /// Counts units of work.
    pub(crate) fn new() -> Self {
        Self { started: Instant::now(), shown: Mutex::new(None), bytes: false, rate: false, quiet: false }
    }
    /// Shows nothing: for several works at once.
    pub(crate) fn quiet() -> Self {
        let mut screen = Self::new();
        screen.quiet = true;
        screen
    }
    /// Counts bytes, and shows the time left.
    pub(crate) fn of_bytes() -> Self {
        let mut screen = Self::new();
        screen.bytes = true;
        screen
    }
    /// Counts bytes, and shows the rate and the time left.
    pub(crate) fn of_search() -> Self {
        let mut screen = Self::of_bytes();
        screen.rate = true;
        screen
    }
    fn bar(&self, of: u64) -> ProgressBar {
        let bar = ProgressBar::with_draw_target(Some(of), ProgressDrawTarget::stderr());
        let template = if self.rate {
            "{binary_bytes} of {binary_total_bytes}, {binary_bytes_per_sec}, {eta} left  {msg}"
        } else if self.bytes {
            "{msg:<34} {bar:30} {binary_bytes} of {binary_total_bytes}, {eta} left"
        } else {
            "{msg:<34} {bar:30} {percent:>3} %"
        };
        if let Ok(style) = ProgressStyle::with_template(template) {
            bar.set_style(style);
        }
        bar
    }
}

impl Watch for Screen {
    fn at(&self, work: &str, done: u64, of: u64) {
        if self.quiet || self.started.elapsed() < PATIENCE || !std::io::stderr().is_terminal() {
            return;
        }
        let mut shown = self.shown.lock().unwrap_or_else(PoisonError::into_inner);
        match shown.as_ref() {
            Some((name, bar)) if name == work || (self.rate && bar.length() == Some(of)) => {
                if name != work {
                    bar.set_message(work.to_owned());
                }
                bar.set_length(of);
                bar.set_position(done);
            }
            _ => {
                if let Some((_, bar)) = shown.take() {
                    bar.finish_and_clear();
                }
                let bar = self.bar(of);
                bar.set_message(work.to_owned());
                bar.set_position(done);
                *shown = Some((work.to_owned(), bar));
            }
        }
    }
    fn stop(&self) -> bool {
        STOP.load(Ordering::SeqCst)
    }
}

impl Drop for Screen {
    fn drop(&mut self) {
        let shown = self.shown.get_mut().unwrap_or_else(PoisonError::into_inner);
        if let Some((_, bar)) = shown.take() {
            bar.finish_and_clear();
        }
    }
}
