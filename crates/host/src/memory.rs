//! Memory that holds secrets: kept out of swap, and wiped where a library would leave it.

/// Keeps the pages of a buffer out of swap for the rest of the process, as far as the system's limit for that goes (`ulimit -l`).
///
/// A page stays locked when the buffer is freed: what is put there next loses nothing by it. Copies that cryptography libraries make
/// inside (ring's and RustCrypto's key types) are wiped by them, not locked.
#[cfg(unix)]
pub fn keep_in_memory(bytes: &[u8]) {
    if !bytes.is_empty() {
        // SAFETY: locking pages changes nothing in them; a refusal is no error.
        let _ = unsafe { rustix::mm::mlock(bytes.as_ptr().cast_mut().cast(), bytes.len()) };
    }
}

/// Windows keeps to its own rules.
#[cfg(windows)]
pub fn keep_in_memory(_: &[u8]) {}

/// The same for a buffer that is still to be filled.
#[cfg(unix)]
pub fn keep_buffer_in_memory(buffer: &Vec<u8>) {
    if buffer.capacity() > 0 {
        // SAFETY: as above; the whole allocation is ours.
        let _ = unsafe { rustix::mm::mlock(buffer.as_ptr().cast_mut().cast(), buffer.capacity()) };
    }
}

/// Windows keeps to its own rules.
#[cfg(windows)]
pub fn keep_buffer_in_memory(_: &Vec<u8>) {}

/// Removes a variable from the environment, and its value from the memory that the system handed us: other programs of the same user
/// could read it there.
///
/// # Safety
///
/// No other thread may read or change the environment meanwhile.
#[cfg(unix)]
pub unsafe fn forget_variable(name: &std::ffi::OsStr) {
    use std::os::unix::ffi::OsStrExt;
    if let Ok(text) = std::ffi::CString::new(name.as_bytes()) {
        // SAFETY: as promised by the caller; the value ends with 0, and only its own bytes are written.
        unsafe {
            let mut at = nix::libc::getenv(text.as_ptr());
            while !at.is_null() && *at != 0 {
                at.write_volatile(0);
                at = at.add(1);
            }
        }
    }
    // SAFETY: as promised by the caller.
    unsafe { std::env::remove_var(name) };
}

/// Removes a variable from the environment.
///
/// # Safety
///
/// No other thread may read or change the environment meanwhile.
#[cfg(windows)]
pub unsafe fn forget_variable(name: &std::ffi::OsStr) {
    // SAFETY: as promised by the caller.
    unsafe { std::env::remove_var(name) };
}
