//! Stand-ins for the store commands of systems that tests do not run on: they keep their state in files, take their arguments
//! strictly, and fail on demand.

use crate::sandbox::Sandbox;
use std::path::PathBuf;

/// The `security` of macOS, with the two keychains; gives the directory of its state.
pub fn security(sandbox: &Sandbox) -> PathBuf {
    let state = sandbox.path("state-of-macos");
    std::fs::create_dir_all(&state).unwrap();
    for keychain in ["home/Library/Keychains/login.keychain-db", "root/Library/Keychains/System.keychain"] {
        let file = sandbox.path(keychain);
        std::fs::create_dir_all(file.parent().unwrap()).unwrap();
        std::fs::write(file, "keychain").unwrap();
    }
    let tamga = sandbox.command(&[]).get_program().to_string_lossy().into_owned();
    let script =
        include_str!("security.sh").replace("@STATE@", &state.display().to_string()).replace("@TAMGA@", &tamga);
    let script = script.replace(
        "[ -e \"$1\" ] || say",
        &format!("[ -e \"$1\" ] || [ -e \"{}$1\" ] || say", sandbox.path("root").display()),
    );
    program(sandbox, "root/usr/bin/security", &script);
    state
}

/// The PowerShell of a Windows beside the Linux in which Tamga runs; gives the directory of its state.
pub fn powershell(sandbox: &mut Sandbox) -> PathBuf {
    let state = sandbox.path("state-of-windows");
    std::fs::create_dir_all(&state).unwrap();
    let release = sandbox.path("root/proc/sys/kernel/osrelease");
    std::fs::create_dir_all(release.parent().unwrap()).unwrap();
    std::fs::write(release, "6.6.87.2-microsoft-standard-WSL2\n").unwrap();
    let script = include_str!("powershell.sh").replace("@STATE@", &state.display().to_string());
    sandbox.stand_in("powershell.exe", &script);
    state
}

fn program(sandbox: &Sandbox, place: &str, script: &str) {
    use std::os::unix::fs::PermissionsExt;
    let file = sandbox.path(place);
    std::fs::create_dir_all(file.parent().unwrap()).unwrap();
    std::fs::write(&file, script).unwrap();
    std::fs::set_permissions(&file, std::fs::Permissions::from_mode(0o755)).unwrap();
}
