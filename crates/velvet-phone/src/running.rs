//! A running app, as the phone sees it.

use std::io::{self, BufRead, BufReader, Write};
use std::process::{Child, Command, ExitStatus, Stdio};
use std::sync::mpsc::{Receiver, RecvTimeoutError, channel};
use std::thread;
use std::time::{Duration, Instant};

/// How long an app may take to say or do what is expected of it, on the slowest machine.
const PATIENCE: Duration = Duration::from_secs(60);

/// A running app. Killed when it is dropped.
#[derive(Debug)]
pub struct Running {
    child: Child,
    lines: Receiver<String>,
    said: Vec<String>,
}

impl Running {
    pub(crate) fn new(mut program: Command) -> io::Result<Running> {
        let mut child = program.stdin(Stdio::piped()).stdout(Stdio::piped()).spawn()?;
        let output = child.stdout.take().ok_or_else(|| io::Error::other("the app has no output"))?;
        let (send, lines) = channel();
        thread::spawn(move || {
            for line in BufReader::new(output).lines().map_while(Result::ok) {
                if send.send(line).is_err() {
                    break;
                }
            }
        });
        Ok(Running { child, lines, said: Vec::new() })
    }

    /// Waits until the app says a line that contains `words`, and returns that line.
    ///
    /// # Errors
    /// When it ends without having said so, or takes longer than a minute; what it said instead is in the error.
    pub fn wait_for(&mut self, words: &str) -> io::Result<String> {
        let deadline = Instant::now() + PATIENCE;
        loop {
            let line = match self.lines.recv_timeout(deadline.saturating_duration_since(Instant::now())) {
                Ok(line) => line,
                Err(RecvTimeoutError::Disconnected) => return Err(self.silent("ended without saying", words)),
                Err(RecvTimeoutError::Timeout) => return Err(self.silent("has not said in a minute", words)),
            };
            self.said.push(line.clone());
            if line.contains(words) {
                return Ok(line);
            }
        }
    }

    /// Tells the app that it is in the background now.
    ///
    /// # Errors
    /// When it is not running any more.
    pub fn to_background(&mut self) -> io::Result<()> {
        self.tell("background")
    }

    /// Tells the app that it is in the foreground again.
    ///
    /// # Errors
    /// When it is not running any more.
    pub fn to_foreground(&mut self) -> io::Result<()> {
        self.tell("foreground")
    }

    /// Tells the app that somebody tapped the button called `name`.
    ///
    /// # Errors
    /// When it is not running any more.
    pub fn tap(&mut self, name: &str) -> io::Result<()> {
        self.tell(&format!("tap {name}"))
    }

    /// Kills the app at once, as the system does when it needs the memory. The app is not told.
    ///
    /// # Errors
    /// When it could not be killed.
    pub fn kill(mut self) -> io::Result<Vec<String>> {
        self.child.kill()?;
        self.child.wait()?;
        Ok(self.all_said())
    }

    /// Asks the app to end, waits until it has, and returns how it ended and all that it said.
    ///
    /// # Errors
    /// When it does not end within a minute.
    pub fn quit(mut self) -> io::Result<(ExitStatus, Vec<String>)> {
        // An app that has ended by itself cannot be asked any more.
        let _ = self.tell("quit");
        drop(self.child.stdin.take());
        let deadline = Instant::now() + PATIENCE;
        loop {
            if let Some(status) = self.child.try_wait()? {
                return Ok((status, self.all_said()));
            }
            if Instant::now() > deadline {
                return Err(self.silent("was asked to end and did not", "in a minute"));
            }
            thread::sleep(Duration::from_millis(2));
        }
    }

    fn tell(&mut self, word: &str) -> io::Result<()> {
        let input = self.child.stdin.as_mut().ok_or_else(|| io::Error::other("the app takes no input"))?;
        writeln!(input, "{word}")?;
        input.flush()
    }

    fn all_said(&mut self) -> Vec<String> {
        self.said.extend(self.lines.iter());
        std::mem::take(&mut self.said)
    }

    fn silent(&mut self, what: &str, words: &str) -> io::Error {
        io::Error::other(format!("the app {what} {words:?}; it said:\n{}", self.said.join("\n")))
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        // It may have ended already.
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}
