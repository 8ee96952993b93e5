//! Whether a process is still running, as far as the system tells.

/// Whether a process is running; nothing where the system does not tell.
pub(crate) fn is_running(process: i64) -> Option<bool> {
    TELLS.then(|| began(process).is_some())
}

/// Whether the system tells of processes. Where apps are kept apart from each other, as on iOS, it does not.
const TELLS: bool = cfg!(any(target_os = "linux", target_os = "android", target_os = "macos", windows));

/// When a process began, in the system's own count; nothing where the system does not tell, or there is no such process. With the
/// number it tells one process from another that is given the same number later.
#[cfg(any(target_os = "macos", windows))]
pub(crate) fn began(process: i64) -> Option<i64> {
    use sysinfo::{Pid, ProcessRefreshKind, ProcessesToUpdate, System};
    let process = Pid::from_u32(u32::try_from(process).ok()?);
    let mut system = System::new();
    system.refresh_processes_specifics(ProcessesToUpdate::Some(&[process]), true, ProcessRefreshKind::nothing());
    i64::try_from(system.process(process)?.start_time()).ok()
}

/// As on other systems, of what the kernel tells in a file.
#[cfg(not(any(target_os = "macos", windows)))]
pub(crate) fn began(process: i64) -> Option<i64> {
    if !TELLS {
        return None;
    }
    let text = std::fs::read_to_string(format!("/proc/{process}/stat")).ok()?;
    // The second value is a name in brackets, in which anything may stand.
    let after_name = &text[text.rfind(')')? + 1..];
    let (state, began) = (after_name.split_whitespace().next()?, after_name.split_whitespace().nth(19)?);
    // One that has ended, and whose parent has not heard of it yet.
    if state == "Z" { None } else { began.parse().ok() }
}
