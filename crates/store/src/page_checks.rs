//! Checksums of the ledger's pages: a page that is not as it was written is an error when it is read, and never an answer.
//!
//! SQLite leaves some bytes at the end of each page to whoever asks for them. A shim between SQLite and the file keeps there a
//! checksum of the page and its number: computed when a page is written to the ledger's file, compared when it is read from it.
//! (Frames of the write-ahead log have checksums of SQLite's own.) The checksum is the one of SQLite's log: two sums that are
//! fed into one another, which no single changed bit leaves both alone.
//!
//! # Safety
//! The only unsafe code of this crate. What holds:
//! - The shim is a `sqlite3_vfs` that is never freed, and a copy of the system's but for its name, the size of a file and how
//!   files are opened.
//! - A file of the shim is a [`CheckedFile`] with the system's own file right behind it, in one block that SQLite allocates by
//!   `szOsFile`. SQLite calls methods only between a successful `open` and `close`, and one at a time for each file.
//! - Buffers are as long as SQLite says they are.

#![allow(unsafe_code)]

use std::cell::Cell;
use std::ffi::{CStr, c_int, c_void};
use std::sync::OnceLock;

use rusqlite::Connection;
use rusqlite::ffi::{self, sqlite3_file, sqlite3_int64, sqlite3_io_methods, sqlite3_vfs};

/// The name by which connections ask for the shim.
pub(crate) const VFS: &CStr = c"fencepost-pages";
/// Bytes of a page that hold its checksum, its last ones.
const RESERVED: usize = 8;
/// Where a database says how large its pages are, and how many bytes of each are left to others.
const PAGE_SIZE_AT: usize = 16;
pub(crate) const RESERVED_AT: usize = 20;

thread_local! {
    /// The page that was found changed last, on this thread.
    static CHANGED: Cell<i64> = const { Cell::new(0) };
}

/// Returns the number of the page that was found changed last, for the error.
pub(crate) fn last_changed_page() -> i64 {
    CHANGED.get()
}

/// Two sums that are fed into one another.
#[derive(Clone, Copy)]
struct Sums {
    one: u32,
    two: u32,
}

impl Sums {
    #[inline(always)]
    fn add(&mut self, first: u32, second: u32) {
        self.one = self.one.wrapping_add(first).wrapping_add(self.two);
        self.two = self.two.wrapping_add(second).wrapping_add(self.one);
    }
}

/// Computes the checksum of a page without its reserved bytes. Four pairs of sums take turns, since each addition waits for the
/// one before it; the page's number and the pairs are then summed in the same way.
fn checksum(page: &[u8], number: i64) -> [u8; RESERVED] {
    let content = &page[..page.len() - RESERVED];
    let mut lanes = [Sums { one: 0, two: 0 }; 4];
    let word = |bytes: &[u8], at: usize| u32::from_le_bytes(std::array::from_fn(|byte| bytes[at + byte]));
    let mut blocks = content.chunks_exact(32);
    for block in &mut blocks {
        for (lane, sums) in lanes.iter_mut().enumerate() {
            sums.add(word(block, lane * 8), word(block, lane * 8 + 4));
        }
    }
    for (pair, sums) in blocks.remainder().chunks_exact(8).zip(&mut lanes) {
        sums.add(word(pair, 0), word(pair, 4));
    }
    let mut whole = Sums { one: number as u32, two: (number >> 32) as u32 ^ 0x4650_7374 };
    lanes.iter().for_each(|sums| whole.add(sums.one, sums.two));
    let (one, two) = (whole.one.to_le_bytes(), whole.two.to_le_bytes());
    std::array::from_fn(|at| if at < 4 { one[at] } else { two[at - 4] })
}

/// Registers the shim with SQLite, once for the process.
///
/// # Errors
/// SQLite's code where it cannot.
pub(crate) fn register() -> Result<(), c_int> {
    static REGISTERED: OnceLock<c_int> = OnceLock::new();
    let code = *REGISTERED.get_or_init(|| {
        // SAFETY: SQLite returns the system's VFS, or null where there is none; it lives as long as the process.
        let Some(system) = (unsafe { ffi::sqlite3_vfs_find(std::ptr::null()).as_ref() }) else {
            return ffi::SQLITE_ERROR;
        };
        let shim = sqlite3_vfs {
            szOsFile: system.szOsFile + BEHIND as c_int,
            pNext: std::ptr::null_mut(),
            zName: VFS.as_ptr(),
            pAppData: std::ptr::from_ref(system).cast_mut().cast(),
            xOpen: Some(open),
            ..*system
        };
        // SAFETY: the shim is leaked, so SQLite may keep it.
        unsafe { ffi::sqlite3_vfs_register(Box::into_raw(Box::new(shim)), 0) }
    });
    if code == ffi::SQLITE_OK { Ok(()) } else { Err(code) }
}

/// Asks SQLite to leave room for checksums in the pages of a database that is not written yet, or that is about to be vacuumed.
pub(crate) fn reserve(connection: &Connection) -> Result<(), c_int> {
    let mut bytes = RESERVED as c_int;
    // SAFETY: the handle is that of an open connection, and the control takes a pointer to a number.
    let code = unsafe {
        ffi::sqlite3_file_control(
            connection.handle(),
            c"main".as_ptr(),
            ffi::SQLITE_FCNTL_RESERVE_BYTES,
            std::ptr::from_mut(&mut bytes).cast(),
        )
    };
    if code == ffi::SQLITE_OK { Ok(()) } else { Err(code) }
}

/// A file of the shim. The system's file lies [`BEHIND`] its beginning.
#[repr(C)]
struct CheckedFile {
    base: sqlite3_file,
    /// The size of a page, once a database says so that leaves room for checksums; else 0.
    page_size: usize,
}

const BEHIND: usize = size_of::<CheckedFile>().next_multiple_of(16);

/// Returns the system's file behind a file of the shim.
///
/// # Safety
/// `file` is one of the shim's.
unsafe fn system_file(file: *mut sqlite3_file) -> *mut sqlite3_file {
    // SAFETY: both lie in one block.
    unsafe { file.cast::<u8>().add(BEHIND).cast() }
}

/// Opens a file: a database with checks, and every other kind of file as the system does.
unsafe extern "C" fn open(
    shim: *mut sqlite3_vfs,
    name: ffi::sqlite3_filename,
    file: *mut sqlite3_file,
    flags: c_int,
    opened: *mut c_int,
) -> c_int {
    // SAFETY: `shim` is the one that was registered; `file` has room for what it says.
    unsafe {
        let system = (*shim).pAppData.cast::<sqlite3_vfs>();
        let Some(open) = (*system).xOpen else { return ffi::SQLITE_ERROR };
        if flags & ffi::SQLITE_OPEN_MAIN_DB == 0 {
            return open(system, name, file, flags, opened);
        }
        let own = system_file(file);
        let base = sqlite3_file { pMethods: std::ptr::null() };
        file.cast::<CheckedFile>().write(CheckedFile { base, page_size: 0 });
        (*own).pMethods = std::ptr::null();
        let code = open(system, name, own, flags, opened);
        if !(*own).pMethods.is_null() {
            // Also where it failed: SQLite then closes it.
            (*file).pMethods = &raw const METHODS;
        }
        code
    }
}

static METHODS: sqlite3_io_methods = sqlite3_io_methods {
    // Without the methods of version 3: pages are not mapped into memory past the checks.
    iVersion: 2,
    xClose: Some(close),
    xRead: Some(read),
    xWrite: Some(write),
    xTruncate: Some(truncate),
    xSync: Some(sync),
    xFileSize: Some(file_size),
    xLock: Some(lock),
    xUnlock: Some(unlock),
    xCheckReservedLock: Some(check_reserved_lock),
    xFileControl: Some(file_control),
    xSectorSize: Some(sector_size),
    xDeviceCharacteristics: Some(device_characteristics),
    xShmMap: Some(shm_map),
    xShmLock: Some(shm_lock),
    xShmBarrier: Some(shm_barrier),
    xShmUnmap: Some(shm_unmap),
    xFetch: None,
    xUnfetch: None,
};

impl CheckedFile {
    /// Learns from the head of a database, which is read or written first, how large its pages are.
    fn learn(&mut self, bytes: &[u8], offset: sqlite3_int64) {
        if offset != 0 || bytes.len() < 100 || !bytes.starts_with(b"SQLite format 3\0") {
            return;
        }
        let size = usize::from(u16::from_be_bytes([bytes[PAGE_SIZE_AT], bytes[PAGE_SIZE_AT + 1]]));
        let size = if size == 1 { 65_536 } else { size };
        let is_checked = usize::from(bytes[RESERVED_AT]) == RESERVED && size.is_power_of_two() && size >= 512;
        self.page_size = if is_checked { size } else { 0 };
    }

    /// Returns the number of the page that bytes at an offset are; none where they are no whole page, or pages are not checked.
    fn page_of(&self, length: usize, offset: sqlite3_int64) -> Option<i64> {
        let size = sqlite3_int64::try_from(self.page_size).ok().filter(|size| *size > 0)?;
        (length == self.page_size && offset % size == 0).then_some(offset / size + 1)
    }
}

unsafe extern "C" fn read(file: *mut sqlite3_file, buffer: *mut c_void, length: c_int, offset: sqlite3_int64) -> c_int {
    // SAFETY: `file` is one of the shim's, and `buffer` is `length` bytes long.
    unsafe {
        let own = system_file(file);
        let Some(read) = (*(*own).pMethods).xRead else { return ffi::SQLITE_IOERR };
        let code = read(own, buffer, length, offset);
        if code != ffi::SQLITE_OK {
            return code;
        }
        let bytes = std::slice::from_raw_parts(buffer.cast::<u8>(), usize::try_from(length).unwrap_or(0));
        let checked = &mut *file.cast::<CheckedFile>();
        checked.learn(bytes, offset);
        match checked.page_of(bytes.len(), offset) {
            Some(number) if !bytes.ends_with(&checksum(bytes, number)) => {
                CHANGED.set(number);
                ffi::SQLITE_IOERR_DATA
            }
            _ => code,
        }
    }
}

unsafe extern "C" fn write(
    file: *mut sqlite3_file,
    buffer: *const c_void,
    length: c_int,
    offset: sqlite3_int64,
) -> c_int {
    // SAFETY: `file` is one of the shim's, and `buffer` is `length` bytes long.
    unsafe {
        let own = system_file(file);
        let Some(write) = (*(*own).pMethods).xWrite else { return ffi::SQLITE_IOERR };
        let bytes = std::slice::from_raw_parts(buffer.cast::<u8>(), usize::try_from(length).unwrap_or(0));
        let checked = &mut *file.cast::<CheckedFile>();
        checked.learn(bytes, offset);
        let Some(number) = checked.page_of(bytes.len(), offset) else { return write(own, buffer, length, offset) };
        // The buffer is SQLite's own, and is left as it is.
        let mut page = bytes.to_vec();
        let sum = checksum(&page, number);
        let end = page.len() - RESERVED;
        page[end..].copy_from_slice(&sum);
        write(own, page.as_ptr().cast(), length, offset)
    }
}

unsafe extern "C" fn device_characteristics(file: *mut sqlite3_file) -> c_int {
    // SAFETY: `file` is one of the shim's.
    unsafe {
        let own = system_file(file);
        let Some(characteristics) = (*(*own).pMethods).xDeviceCharacteristics else { return 0 };
        // Parts of pages cannot be checked, so SQLite is to read them whole.
        characteristics(own) & !ffi::SQLITE_IOCAP_SUBPAGE_READ
    }
}

/// Methods that do what the system's do.
macro_rules! handed_on {
    ($($name:ident = $method:ident($($argument:ident: $type:ty),*) -> $result:ty, or $otherwise:expr;)*) => {
        $(unsafe extern "C" fn $name(file: *mut sqlite3_file, $($argument: $type),*) -> $result {
            // SAFETY: `file` is one of the shim's; all else is handed on as it came.
            unsafe {
                let own = system_file(file);
                match (*(*own).pMethods).$method {
                    Some(method) => method(own, $($argument),*),
                    None => $otherwise,
                }
            }
        })*
    };
}

handed_on! {
    close = xClose() -> c_int, or ffi::SQLITE_OK;
    truncate = xTruncate(size: sqlite3_int64) -> c_int, or ffi::SQLITE_IOERR;
    sync = xSync(flags: c_int) -> c_int, or ffi::SQLITE_IOERR;
    file_size = xFileSize(size: *mut sqlite3_int64) -> c_int, or ffi::SQLITE_IOERR;
    lock = xLock(level: c_int) -> c_int, or ffi::SQLITE_IOERR;
    unlock = xUnlock(level: c_int) -> c_int, or ffi::SQLITE_IOERR;
    check_reserved_lock = xCheckReservedLock(found: *mut c_int) -> c_int, or ffi::SQLITE_IOERR;
    file_control = xFileControl(control: c_int, argument: *mut c_void) -> c_int, or ffi::SQLITE_NOTFOUND;
    sector_size = xSectorSize() -> c_int, or 4096;
    shm_map = xShmMap(region: c_int, size: c_int, extend: c_int, to: *mut *mut c_void) -> c_int, or ffi::SQLITE_IOERR;
    shm_lock = xShmLock(offset: c_int, count: c_int, flags: c_int) -> c_int, or ffi::SQLITE_IOERR;
    shm_barrier = xShmBarrier() -> (), or ();
    shm_unmap = xShmUnmap(remove: c_int) -> c_int, or ffi::SQLITE_OK;
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn no_changed_bit_of_a_page_keeps_the_checksum() {
        let mut page: Vec<u8> = (0..8_192_u32).map(|at| (at.wrapping_mul(0x9e37_79b1) >> 24) as u8).collect();
        let sum = checksum(&page, 7);
        for bit in 0..(page.len() - RESERVED) * 8 {
            page[bit / 8] ^= 1 << (bit % 8);
            assert_ne!(checksum(&page, 7), sum, "bit {bit}");
            page[bit / 8] ^= 1 << (bit % 8);
        }
    }

    proptest! {
        #[test]
        fn no_changed_bit_and_no_exchanged_page_keeps_the_checksum(
            page in prop::collection::vec(any::<u8>(), 512),
            bit in 0_usize..(512 - RESERVED) * 8,
            number in 1_i64..1_000_000,
            other in 1_i64..1_000_000,
        ) {
            let sum = checksum(&page, number);
            let mut changed = page.clone();
            changed[bit / 8] ^= 1 << (bit % 8);
            prop_assert_ne!(checksum(&changed, number), sum);
            prop_assert!(number == other || checksum(&page, other) != sum);
        }
    }
}
