//! What was counted, written down: counts outlive the process that made them.
//!
//! Each of the states' locks has a file that is mapped into memory, and what is counted is written there before anybody is
//! told that it was, under the lock that is held anyway. Pages that were written belong to the kernel: they stay when the
//! process is killed, whenever that happens, without a call of the system for each request. When the machine itself stops, what
//! the kernel has not written back yet is lost: at most what was counted since [`Journals::sync`] was last called.
//!
//! A file that is full is written anew with what still matters beside it, and takes its name in one step (`rename`).

use std::fs::{self, File, OpenOptions};
use std::io::{self, Write};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, PoisonError, Weak};
use std::time::{Duration, Instant};

use memmap2::MmapMut;
use porch_rules::limit::{Counted, Log, SHARDS, States};

/// Bytes of one record.
const RECORD: usize = 40;
/// Bytes of a file at first, and at most while it holds little.
const FIRST: usize = 64 << 10;
const MOST: usize = 4 << 20;
/// A file that is full sooner than this is made larger.
const SOON: Duration = Duration::from_secs(10);
const MAGIC: &[u8; 16] = b"elm-porch count1";

/// Why counts cannot be written down.
#[derive(Debug, thiserror::Error)]
pub enum JournalError {
    /// A file or folder.
    #[error("{0}: {1}")]
    File(PathBuf, io::Error),
    /// Another process has them.
    #[error("{0}: another service counts there")]
    Taken(PathBuf),
}

fn at(path: &Path) -> impl FnOnce(io::Error) -> JournalError + '_ {
    |e| JournalError::File(path.to_owned(), e)
}

/// The files of all states.
pub struct Journals {
    maps: Vec<Weak<Mutex<Journal>>>,
    /// Held as long as this process counts here.
    _lock: File,
}

impl Journals {
    /// The states that were written down in a folder, and their files from now on; `now` in milliseconds since 1970.
    ///
    /// # Errors
    /// When the folder cannot be written, or another process has it.
    pub fn open(folder: &Path, now: u64) -> Result<(States, Self), JournalError> {
        fs::create_dir_all(folder).map_err(at(folder))?;
        let name = folder.join("lock");
        let lock = OpenOptions::new()
            .create(true)
            .truncate(false)
            .write(true)
            .open(&name)
            .map_err(at(&name))?;
        if lock.try_lock().is_err() {
            return Err(JournalError::Taken(folder.to_owned()));
        }
        let (mut logs, mut maps) = (Vec::new(), Vec::new());
        for i in 0..SHARDS {
            let path = folder.join(format!("{i:02}.counts"));
            let counted = match fs::read(&path) {
                Ok(bytes) => read(&bytes),
                Err(e) if e.kind() == io::ErrorKind::NotFound => Vec::new(),
                Err(e) => return Err(at(&path)(e)),
            };
            let journal = Journal::written(&path, counted.len(), FIRST, counted.iter().copied());
            let journal = Arc::new(Mutex::new(journal.map_err(at(&path))?));
            maps.push(Arc::downgrade(&journal));
            let log: Box<dyn Log> = Box::new(Kept(journal));
            logs.push((counted, log));
        }
        let states = States::of_logs(logs, now);
        Ok((states, Self { maps, _lock: lock }))
    }

    /// Has the kernel write everything back to the disk.
    pub fn sync(&self) {
        for map in self.maps.iter().filter_map(Weak::upgrade) {
            let journal = map.lock().unwrap_or_else(PoisonError::into_inner);
            if let Some(map) = &journal.map {
                let _ = map.flush_async();
            }
        }
    }
}

/// A file that is written.
struct Journal {
    path: PathBuf,
    /// None: it could not be written any more, and counts stand in memory alone.
    map: Option<MmapMut>,
    used: usize,
    begun: Instant,
}

struct Kept(Arc<Mutex<Journal>>);

impl Log for Kept {
    fn note(&mut self, counted: &Counted) -> bool {
        let mut journal = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        journal.append(counted)
    }

    fn restart(&mut self, all: &mut dyn Iterator<Item = Counted>) {
        let mut journal = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let all: Vec<Counted> = all.collect();
        let size = journal.map.as_ref().map_or(FIRST, |map| map.len());
        let size = match journal.begun.elapsed() < SOON {
            true => (size * 4).min(MOST),
            false => size,
        };
        let count = all.len();
        let anew = Journal::written(&journal.path, count, size, all.into_iter());
        match anew {
            Ok(anew) => *journal = anew,
            Err(e) => {
                let path = journal.path.display();
                tracing::error!("{path}: {e}: what is counted is not written down any more");
                journal.map = None;
            }
        }
    }
}

impl Journal {
    /// A new file with these, in the place of the one that is there.
    fn written(
        path: &Path,
        count: usize,
        size: usize,
        all: impl Iterator<Item = Counted>,
    ) -> io::Result<Self> {
        let size = size.max(MAGIC.len() + count * RECORD * 2);
        let mut bytes = Vec::with_capacity(size);
        bytes.extend_from_slice(MAGIC);
        for counted in all {
            bytes.extend_from_slice(&record(&counted));
        }
        let used = bytes.len();
        // Every page is there before it is mapped: a disk that is full is an error now, and no signal later.
        bytes.resize(size, 0);
        let beside = path.with_extension("new");
        let mut file = OpenOptions::new()
            .create(true)
            .truncate(true)
            .read(true)
            .write(true)
            .open(&beside)?;
        file.write_all(&bytes)?;
        #[allow(unsafe_code, reason = "memory that is a file has no other way in")]
        // SAFETY: the folder is locked by this process, which never makes a file shorter and gives no other one its name while it
        // is mapped; others who write into it meanwhile change numbers and no memory of another kind.
        let map = unsafe { MmapMut::map_mut(&file)? };
        fs::rename(&beside, path)?;
        Ok(Self {
            path: path.to_owned(),
            map: Some(map),
            used,
            begun: Instant::now(),
        })
    }

    /// Appends one; whether there is room for more.
    fn append(&mut self, counted: &Counted) -> bool {
        let Some(map) = &mut self.map else {
            return true;
        };
        let end = self.used + RECORD;
        if let Some(room) = map.get_mut(self.used..end) {
            room.copy_from_slice(&record(counted));
            self.used = end;
        }
        end + RECORD <= map.len()
    }
}

/// A record: four numbers, and a fifth with the window, the form and a check of all of it.
fn record(counted: &Counted) -> [u8; RECORD] {
    let window = counted.window.min((1 << 48) - 1);
    let numbers = [
        counted.limit,
        counted.subject,
        counted.at,
        counted.weight.cast_unsigned(),
    ];
    let tail = window << 16 | u64::from(counted.form) << 8;
    let mut out = [0; RECORD];
    for (place, number) in out.chunks_exact_mut(8).zip(numbers) {
        place.copy_from_slice(&number.to_le_bytes());
    }
    let last = tail | u64::from(check(&numbers, tail));
    out[32..].copy_from_slice(&last.to_le_bytes());
    out
}

fn check(numbers: &[u64; 4], tail: u64) -> u8 {
    let all = numbers.iter().fold(tail, |sum, n| {
        (sum.rotate_left(7) ^ n).wrapping_mul(0x9e37_79b9_7f4a_7c15)
    });
    (all >> 56) as u8
}

/// The records of a file, up to the first that is none.
fn read(bytes: &[u8]) -> Vec<Counted> {
    let Some(rest) = bytes.strip_prefix(MAGIC) else {
        return Vec::new();
    };
    let number = |part: &[u8]| part.first_chunk().map_or(0, |b| u64::from_le_bytes(*b));
    let read = |part: &[u8]| {
        let numbers = [
            number(part),
            number(&part[8..]),
            number(&part[16..]),
            number(&part[24..]),
        ];
        let last = number(&part[32..]);
        let tail = last & !0xff;
        let sound = tail != 0 && check(&numbers, tail) == last as u8;
        sound.then(|| Counted {
            limit: numbers[0],
            subject: numbers[1],
            at: numbers[2],
            weight: numbers[3].cast_signed(),
            window: tail >> 16,
            form: (tail >> 8) as u8,
        })
    };
    rest.chunks_exact(RECORD).map_while(read).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use porch_rules::limit::{Form, Limit};

    fn folder(name: &str) -> PathBuf {
        let folder =
            std::env::temp_dir().join(format!("porch-counts-{name}-{}", std::process::id()));
        let _ = fs::remove_dir_all(&folder);
        folder
    }

    const LIMIT: Limit = Limit::of(5, Duration::from_secs(3600));

    #[test]
    fn counts_outlive_their_process_and_are_no_others_meanwhile() {
        let folder = folder("outlive");
        let (states, journals) = Journals::open(&folder, 1000).unwrap();
        for _ in 0..3 {
            assert!(states.ask(1, 7, LIMIT, 1, 1000).allowed);
        }
        let fixed = Limit {
            form: Form::Fixed { from: 500 },
            ..LIMIT
        };
        assert!(states.ask(2, 7, fixed, 4, 1000).allowed);
        assert!(matches!(
            Journals::open(&folder, 1000),
            Err(JournalError::Taken(_))
        ));
        // As it is when the process is killed: nothing is closed, and the files are what they are.
        journals.sync();
        let copy = folder.with_extension("copy");
        let _ = fs::remove_dir_all(&copy);
        fs::create_dir(&copy).unwrap();
        for file in fs::read_dir(&folder).unwrap().flatten() {
            fs::copy(file.path(), copy.join(file.file_name())).unwrap();
        }
        let (again, _journals) = Journals::open(&copy, 2000).unwrap();
        let told: Vec<bool> = (0..3)
            .map(|_| again.ask(1, 7, LIMIT, 1, 2000).allowed)
            .collect();
        assert_eq!(told, [true, true, false]);
        assert_eq!(again.used(2, 7, 500), Some(4));
        assert_eq!(again.ask(2, 7, fixed, 1, 2000).remaining, 0);
        for gone in [folder, copy] {
            fs::remove_dir_all(gone).unwrap();
        }
    }

    #[test]
    fn a_file_that_is_full_is_written_anew_and_what_is_broken_ends_it() {
        let folder = folder("anew");
        let (states, journals) = Journals::open(&folder, 0).unwrap();
        let wide = Limit::of(1_000_000, Duration::from_secs(3600));
        for i in 0..5000 {
            states.ask(1, 7, wide, 1, i * 1000);
        }
        drop((states, journals));
        let (again, journals) = Journals::open(&folder, 5_000_000).unwrap();
        let left = again.ask(1, 7, wide, 1, 5_000_000).remaining;
        // Slices of a minute: those of the last hour, with the one that is partly inside.
        let passed = 1_000_000 - left;
        assert!((3600..=3662).contains(&passed), "{passed}");
        drop((again, journals));
        let sizes: u64 = fs::read_dir(&folder)
            .unwrap()
            .flatten()
            .map(|f| f.metadata().unwrap().len())
            .sum();
        assert!(sizes <= 64 * FIRST as u64 + MOST as u64, "{sizes}");
        // A record that was half written, and what stands behind it, is not read.
        let good = Counted {
            limit: 1,
            subject: 2,
            at: 3,
            weight: -4,
            window: 5,
            form: b's',
        };
        let mut bytes = MAGIC.to_vec();
        for _ in 0..3 {
            bytes.extend_from_slice(&record(&good));
        }
        assert_eq!(read(&bytes), [good; 3]);
        bytes[MAGIC.len() + RECORD + 3] ^= 1;
        assert_eq!(read(&bytes), [good]);
        assert_eq!(read(&bytes[..MAGIC.len() + 39]), []);
        assert_eq!(read(b"elm-porch count2"), []);
        fs::remove_dir_all(folder).unwrap();
    }
}
