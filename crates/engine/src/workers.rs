//! Works on the batches of a stream, or on jobs, on several cores, and hands on what comes of them in order.

use std::collections::BTreeMap;
use std::sync::{Condvar, Mutex, MutexGuard, PoisonError, mpsc};

/// How far a worker may be ahead of what was handed on, in batches for each worker.
pub(crate) const AHEAD: u64 = 4;

fn locked<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    // A worker that panicked takes the others along when the scope ends.
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

struct BatchQueue<F> {
    fill: F,
    next: u64,
    /// There is no more, or nobody wants it.
    ended: bool,
}

struct Outlet<T, F, E> {
    next: u64,
    waiting: BTreeMap<u64, T>,
    hand_on: F,
    failure: Option<E>,
    /// Nothing is handed on any more.
    stopped: bool,
}

/// Does something when its thread panics: nobody may wait for what will not come.
struct Alarm<F: Fn()>(F);

impl<F: Fn()> Drop for Alarm<F> {
    fn drop(&mut self) {
        if std::thread::panicking() {
            (self.0)();
        }
    }
}

/// Goes through a stream batch by batch. `fill` reads the next batch into one that may have been used, and says whether there was
/// one; `work` makes something of each, on `workers` cores and with what `prepare` made for each of them; `hand_on` takes it, in the
/// order of the stream. At most a few batches for each worker are held.
///
/// # Errors
/// What `fill` or `hand_on` returns first.
pub(crate) fn in_order<J: Default, W, T: Send, E: Send>(
    fill: impl FnMut(&mut J) -> Result<bool, E> + Send,
    workers: usize,
    prepare: impl Fn() -> W + Sync,
    work: impl Fn(&mut W, &mut J) -> T + Sync,
    hand_on: impl FnMut(T) -> Result<(), E> + Send,
) -> Result<(), E> {
    let workers = workers.max(1);
    let intake = Mutex::new(BatchQueue { fill, next: 0, ended: false });
    let outlet = Mutex::new(Outlet { next: 0, waiting: BTreeMap::new(), hand_on, failure: None, stopped: false });
    let moved = Condvar::new();
    let run = || {
        let _alarm = Alarm(|| {
            locked(&outlet).stopped = true;
            moved.notify_all();
        });
        let (mut own, mut batch) = (prepare(), J::default());
        loop {
            let taken = {
                let mut intake = locked(&intake);
                if intake.ended {
                    return;
                }
                let taken = (intake.fill)(&mut batch);
                intake.ended = !matches!(taken, Ok(true));
                intake.next += 1;
                taken.map(|more| more.then_some(intake.next - 1))
            };
            let ticket = match taken {
                Ok(Some(ticket)) => ticket,
                Ok(None) => return,
                Err(error) => {
                    // What came before it is handed on all the same.
                    locked(&outlet).failure.get_or_insert(error);
                    return;
                }
            };
            let made = work(&mut own, &mut batch);
            let mut out = locked(&outlet);
            out.waiting.insert(ticket, made);
            while !out.stopped {
                let next = out.next;
                let Some(first) = out.waiting.remove(&next) else { break };
                out.next += 1;
                if let Err(error) = (out.hand_on)(first) {
                    out.failure = Some(error);
                    out.stopped = true;
                }
            }
            moved.notify_all();
            while !out.stopped && out.next + AHEAD * (workers as u64) < ticket {
                out = moved.wait(out).unwrap_or_else(PoisonError::into_inner);
            }
            if out.stopped {
                return;
            }
        }
    };
    std::thread::scope(|scope| {
        for _ in 1..workers {
            scope.spawn(run);
        }
        run();
    });
    let outlet = outlet.into_inner().unwrap_or_else(PoisonError::into_inner);
    outlet.failure.map_or(Ok(()), Err)
}

/// Returns how many workers to take: as many as were asked for, or as there are cores.
pub(crate) fn cores(asked: Option<usize>) -> usize {
    asked.unwrap_or_else(|| std::thread::available_parallelism().map_or(1, usize::from))
}

/// How many threads work, and what makes what each of them uses again and again.
pub(crate) struct Workers<P> {
    pub count: usize,
    /// How many jobs are under way for each worker.
    pub ahead: u64,
    pub prepare: P,
}

/// Works on jobs that this thread hands out, on as many other threads as there are workers, and takes what comes of them back in order: for when this
/// thread alone may touch where jobs come from and results go to. `next` gives a job, `take` gets a result; both are given
/// `own`.
///
/// # Errors
/// What `next` or `take` returns first.
pub(crate) fn handed_out<O, J: Send, W, T: Send, E>(
    own: &mut O,
    Workers { count: workers, ahead, prepare }: Workers<impl Fn() -> W + Sync>,
    mut next: impl FnMut(&mut O) -> Result<Option<J>, E>,
    work: impl Fn(&mut W, J) -> T + Sync,
    mut take: impl FnMut(&mut O, T) -> Result<(), E>,
) -> Result<(), E> {
    if workers <= 1 {
        let mut scratch = prepare();
        while let Some(job) = next(own)? {
            let made = work(&mut scratch, job);
            take(own, made)?;
        }
        return Ok(());
    }
    let (jobs, waiting) = mpsc::channel::<(u64, J)>();
    let waiting = Mutex::new(waiting);
    let (results, done) = mpsc::channel::<Option<(u64, T)>>();
    std::thread::scope(|scope| {
        // Dropped on the way out, so that the workers end before they are waited for.
        let jobs = jobs;
        for _ in 0..workers {
            let results = results.clone();
            scope.spawn(|| {
                let results = results;
                let _alarm = Alarm(|| drop(results.send(None)));
                let mut scratch = prepare();
                loop {
                    let Ok((ticket, job)) = locked(&waiting).recv() else { return };
                    if results.send(Some((ticket, work(&mut scratch, job)))).is_err() {
                        return;
                    }
                }
            });
        }
        let (mut handed, mut taken, mut more) = (0, 0, true);
        let mut early = BTreeMap::new();
        loop {
            while more && handed < taken + ahead * (workers as u64) {
                match next(own)? {
                    Some(job) => {
                        let _ = jobs.send((handed, job));
                        handed += 1;
                    }
                    None => more = false,
                }
            }
            if taken == handed {
                return Ok(());
            }
            // When a worker panicked, so does the scope.
            let Ok(Some((ticket, made))) = done.recv() else { return Ok(()) };
            early.insert(ticket, made);
            while let Some(made) = early.remove(&taken) {
                taken += 1;
                take(own, made)?;
            }
        }
    })
}

#[cfg(test)]
mod tests {
    use std::io::{self, Read};

    use fencepost_formats::{Chunk, Chunks};

    use super::*;

    /// Reads the chunks of a stream.
    fn chunks_of(stream: impl Read) -> impl FnMut(&mut Chunk) -> io::Result<bool> {
        let mut chunks = Chunks::new(stream);
        move |chunk| chunks.read_into(chunk)
    }

    #[test]
    fn what_was_handed_out_comes_back_in_order() {
        for workers in [1, 2, 5] {
            let mut own = (0_u64..1_000, Vec::new());
            let outcome: Result<(), ()> = handed_out(
                &mut own,
                Workers { count: workers, ahead: AHEAD, prepare: || 0_u64 },
                |own| Ok(own.0.next()),
                |sum, job| {
                    *sum += job;
                    (0..job % 17 * 50).fold(job, |all, one| std::hint::black_box(all ^ one ^ one))
                },
                |own, made| {
                    own.1.push(made);
                    Ok(())
                },
            );
            assert!(outcome.is_ok());
            assert!(own.1.iter().copied().eq(0..1_000), "{workers}");
        }
    }

    #[test]
    fn whoever_hands_out_or_takes_may_stop_and_a_panic_is_passed_on() {
        let by = |count| Workers { count, ahead: AHEAD, prepare: || () };
        for workers in [1, 3] {
            let stop = |at: u64, stop: u64| if at == stop { Err(at) } else { Ok(()) };
            let mut own = 0..u64::MAX;
            let next = |own: &mut std::ops::Range<u64>| Ok(own.next());
            assert_eq!(handed_out(&mut own, by(workers), next, |(), job| job, |_, made| stop(made, 40)), Err(40));
            let failing = |own: &mut std::ops::Range<u64>| own.next().map(|at| stop(at, 70).map(|()| at)).transpose();
            let mut own = 0..u64::MAX;
            assert_eq!(handed_out(&mut own, by(workers), failing, |(), job| job, |_, _| Ok(())), Err(70));
            let panics = std::panic::catch_unwind(|| {
                let work = |(): &mut (), job: u64| assert!(job < 30);
                handed_out(&mut (0..u64::MAX), by(workers), next, work, |_, ()| Ok::<(), u64>(()))
            });
            assert!(panics.is_err(), "{workers}");
        }
    }

    fn run(text: &str, workers: usize, fail_at: Option<usize>) -> (Vec<usize>, io::Result<()>) {
        let mut found = Vec::new();
        let outcome = in_order(
            chunks_of(text.as_bytes()),
            workers,
            || (),
            |(), chunk: &mut Chunk| {
                let (mut lines, mut lengths) = (chunk.lines(), Vec::new());
                while let Some(line) = lines.next_line() {
                    lengths.extend(line.content.map(|content| content.bytes().len()));
                }
                lengths
            },
            |lengths| {
                found.extend(lengths);
                match fail_at {
                    Some(most) if found.len() > most => Err(io::Error::other("full")),
                    _ => Ok(()),
                }
            },
        );
        (found, outcome)
    }

    #[test]
    fn results_come_in_the_order_of_the_stream_with_any_number_of_workers() {
        let lengths: Vec<usize> = (0..3_000).map(|at| 1 + at * 7 % 1_999).collect();
        let text: String = lengths.iter().map(|length| format!("{}\n", "x".repeat(*length))).collect();
        for workers in [1, 2, 5] {
            let (found, outcome) = run(&text, workers, None);
            assert!(outcome.is_ok());
            assert_eq!(found, lengths, "{workers}");
        }
        assert_eq!(run("", 2, None).0, [0_usize; 0]);
    }

    #[test]
    fn whoever_takes_the_results_may_stop() {
        let text = format!("{}\n", "x".repeat(1_000)).repeat(5_000);
        for workers in [1, 3] {
            let (found, outcome) = run(&text, workers, Some(10));
            assert_eq!(outcome.unwrap_err().to_string(), "full");
            assert!(found.len() < 5_000);
        }
    }

    #[test]
    fn a_worker_that_panics_leaves_nobody_waiting() {
        let text = format!("{}\n", "x".repeat(1_000)).repeat(20_000);
        let work = |(): &mut (), chunk: &mut Chunk| {
            assert!(chunk.lines().next_line().is_none_or(|line| line.offset < 2_000_000))
        };
        let outcome = std::panic::catch_unwind(|| in_order(chunks_of(text.as_bytes()), 3, || (), work, |()| Ok(())));
        assert!(outcome.is_err());
    }

    #[test]
    fn a_stream_that_breaks_hands_on_what_came_before() {
        struct Breaks(usize);
        impl Read for Breaks {
            fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
                self.0 += 1;
                if self.0 > 3 {
                    return Err(io::Error::other("cut"));
                }
                buffer.fill(b'\n');
                buffer[0] = b'a';
                Ok(buffer.len())
            }
        }
        let mut lines = 0;
        let outcome = in_order(
            chunks_of(Breaks(0)),
            2,
            || (),
            |(), chunk: &mut Chunk| {
                let (mut lines, mut count) = (chunk.lines(), 0);
                while lines.next_line().is_some() {
                    count += 1;
                }
                count
            },
            |found| {
                lines += found;
                Ok(())
            },
        );
        assert_eq!((outcome.unwrap_err().to_string().as_str(), lines), ("cut", 3));
    }
}
