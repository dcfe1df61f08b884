//! The same story on real servers from the system's packages, each on a free loopback port, as a user without rights.
//!
//! `.ci/hosts` installs them and runs this; where one is not here, its test says so and passes.
#![allow(
    missing_docs,
    clippy::unwrap_used,
    clippy::expect_used,
    clippy::panic,
    clippy::disallowed_methods,
    clippy::print_stdout
)]

mod club;

use std::fs;
use std::net::{TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::atomic::{AtomicU32, Ordering};

use club::Club;

/// Where `.ci/hosts` unpacked servers that cannot all be installed at once.
fn unpacked() -> Option<PathBuf> {
    std::env::var_os("YALOTHECA_REAL_HOSTS").map(PathBuf::from)
}

fn program(name: &str) -> Option<PathBuf> {
    let own = unpacked().into_iter().flat_map(|u| [u.join("usr/sbin"), u.join("usr/bin")]);
    let usual = ["/usr/sbin", "/usr/bin", "/usr/local/bin", "/bin"].map(PathBuf::from);
    own.chain(usual).map(|f| f.join(name)).find(|p| p.is_file())
}

fn skipped(what: &str) {
    println!("skipped: {what} is not here (.ci/hosts installs it)");
}

/// A running server, stopped when dropped.
struct Running(Child);

impl Drop for Running {
    fn drop(&mut self) {
        // it may have children of its own: it is asked first
        let _ = Command::new("kill").arg(self.0.id().to_string()).status();
        let _ = self.0.wait();
    }
}

/// A free port below those that systems give to callers: a caller that is given the very port it calls would talk
/// to itself.
fn free_port() -> u16 {
    static NEXT: AtomicU32 = AtomicU32::new(0);
    loop {
        let at = std::process::id().wrapping_mul(31).wrapping_add(NEXT.fetch_add(1, Ordering::Relaxed)) % 12_000;
        let port = 20_000 + u16::try_from(at).unwrap();
        if TcpListener::bind(("127.0.0.1", port)).is_ok() {
            return port;
        }
    }
}

fn is_root() -> bool {
    let id = Command::new("id").arg("-u").output().unwrap();
    id.stdout.trim_ascii() == b"0"
}

/// Somebody without rights, as root runs servers for them: name and number.
fn somebody() -> (String, String) {
    // OpenSSH lets nobody in whose account is locked, as that of `nobody` is; .ci/hosts makes this one
    let made = Command::new("id").args(["-u", "tidewrack"]).output().unwrap();
    match made.status.success() {
        true => ("tidewrack".to_owned(), String::from_utf8(made.stdout).unwrap().trim().to_owned()),
        false => ("nobody".to_owned(), "65534".to_owned()),
    }
}

/// Starts a server as somebody without rights, who owns the club's folder; waits until its port answers.
fn start(club: &Club, port: u16, program: &Path, arguments: &[&str]) -> Running {
    let mut command = if is_root() {
        let (_, id) = somebody();
        let owned = Command::new("chown").args(["-R", &format!("{id}:{id}")]).arg(club.dir.path()).status().unwrap();
        assert!(owned.success());
        let mut command = Command::new("setpriv");
        command.arg(format!("--reuid={id}")).arg(format!("--regid={id}")).arg("--clear-groups").arg(program);
        command
    } else {
        Command::new(program)
    };
    let log = fs::File::create(club.dir.path().join("server.log")).unwrap();
    command.args(arguments).stdin(Stdio::null()).stdout(log.try_clone().unwrap()).stderr(log);
    if let Some(unpacked) = unpacked() {
        command.env("LD_LIBRARY_PATH", unpacked.join("usr/lib/x86_64-linux-gnu"));
    }
    let mut running = Running(command.spawn().unwrap());
    while TcpStream::connect(("127.0.0.1", port)).is_err() {
        let ended = running.0.try_wait().unwrap();
        let said = || fs::read_to_string(club.dir.path().join("server.log")).unwrap_or_default();
        assert!(ended.is_none(), "{} ended: {}", program.display(), said());
        std::thread::yield_now();
    }
    running
}

fn write(club: &Club, name: &str, text: &str) -> String {
    let path = club.dir.path().join(name);
    fs::write(&path, text).unwrap();
    path.display().to_string()
}

/// A certificate and its key, in one file.
fn certificate(club: &Club) -> (String, String) {
    let (key, cert) = (club.dir.path().join("key.pem"), club.dir.path().join("cert.pem"));
    let made = Command::new("openssl")
        .args(["req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "30", "-subj", "/CN=localhost", "-keyout"])
        .arg(&key)
        .arg("-out")
        .arg(&cert)
        .stderr(Stdio::null())
        .status();
    assert!(made.unwrap().success());
    (cert.display().to_string(), key.display().to_string())
}

/// What the program says of the host when it sees it first: its fingerprint.
fn fingerprint(club: &Club, address: &str) -> String {
    let output = club.away("desk", &format!("adopt {address}")).output().unwrap();
    let text = String::from_utf8(output.stderr).unwrap();
    assert_eq!(output.status.code(), Some(6), "{text}");
    let at = text.find("SHA256:").unwrap();
    text[at..].split_whitespace().next().unwrap().to_owned()
}

/// The port of the club's catalogue is no help to a server: what matters is that the tree it left is right.
fn story(club: &Club, address: &str, more: &str) {
    club.desk("desk");
    club.story(&format!("adopt {address} --catalogue HOST {more}"));
}

#[test]
fn openssh_sftp() {
    let (Some(sshd), Some(keygen)) = (program("sshd"), program("ssh-keygen")) else { return skipped("OpenSSH") };
    if is_root() && somebody().0 == "nobody" {
        return skipped("an account that is not locked");
    }
    let club = Club::new();
    let dir = club.dir.path().display().to_string();
    for name in ["host_key", "key"] {
        let mut made = Command::new(&keygen);
        made.args(["-q", "-t", "ed25519", "-N", "", "-f"]).arg(format!("{dir}/{name}"));
        assert!(made.status().unwrap().success());
    }
    fs::copy(format!("{dir}/key.pub"), format!("{dir}/authorized")).unwrap();
    fs::copy(format!("{dir}/key"), club.desk("desk").join("key")).unwrap();
    let port = free_port();
    let config = format!(
        "ListenAddress 127.0.0.1:{port}\nHostKey {dir}/host_key\nAuthorizedKeysFile {dir}/authorized\nStrictModes no\n\
         UsePAM no\nPidFile none\nSubsystem sftp internal-sftp\nForceCommand internal-sftp\n"
    );
    let config = write(&club, "sshd.conf", &config);
    let _running = start(&club, port, &sshd, &["-D", "-e", "-f", &config]);
    let user = if is_root() { somebody().0 } else { std::env::var("USER").unwrap_or_default() };
    let address = format!("sftp://{user}@127.0.0.1:{port}{dir}/quarry");
    let trusted = fingerprint(&club, &address);
    story(&club, &address, &format!("--key key --trust-host {trusted}"));
}

#[test]
fn vsftpd_with_tls_and_one_session() {
    let Some(vsftpd) = program("vsftpd") else { return skipped("vsftpd") };
    let club = Club::new();
    let (cert, key) = certificate(&club);
    let (dir, port) = (club.dir.path().display().to_string(), free_port());
    // it lists as ls does, and demands that data connections go on with the control connection's session;
    // the account that it would take for visitors by itself is not on every machine
    let visitor = somebody().0;
    let config = format!(
        "listen=YES\nlisten_address=127.0.0.1\nlisten_port={port}\nbackground=NO\nrun_as_launching_user=YES\n\
         anonymous_enable=YES\nno_anon_password=YES\nftp_username={visitor}\nanon_root={dir}\nwrite_enable=YES\nanon_upload_enable=YES\n\
         anon_mkdir_write_enable=YES\nanon_other_write_enable=YES\nanon_world_readable_only=NO\nanon_umask=022\n\
         ssl_enable=YES\nallow_anon_ssl=YES\nforce_anon_data_ssl=YES\nforce_anon_logins_ssl=YES\n\
         require_ssl_reuse=YES\nrsa_cert_file={cert}\nrsa_private_key_file={key}\nssl_ciphers=HIGH\n\
         xferlog_enable=NO\nseccomp_sandbox=NO\nsecure_chroot_dir={dir}\n"
    );
    let config = write(&club, "vsftpd.conf", &config);
    let _running = start(&club, port, &vsftpd, &[&config]);
    let address = format!("ftps://anonymous@127.0.0.1:{port}/~/quarry");
    let trusted = fingerprint(&club, &address);
    story(&club, &address, &format!("--trust-host {trusted}"));
}

#[test]
fn proftpd() {
    let Some(proftpd) = program("proftpd") else { return skipped("ProFTPD") };
    let club = Club::new();
    let (dir, port) = (club.dir.path().display().to_string(), free_port());
    let hash = Command::new("openssl").args(["passwd", "-1", yalotheca_standin::rented::PASSWORD]).output().unwrap();
    let hash = String::from_utf8(hash.stdout).unwrap();
    let (name, id) = somebody();
    write(&club, "passwd", &format!("club:{}:{id}:{id}::{dir}:/bin/sh\n", hash.trim()));
    let owner = if is_root() { format!("User {name}\nGroup {name}\n") } else { String::new() };
    let config = format!(
        "ServerType standalone\nDefaultAddress 127.0.0.1\nPort {port}\nUseIPv6 off\n{owner}AuthOrder mod_auth_file.c\n\
         AuthUserFile {dir}/passwd\nRequireValidShell off\nPidFile {dir}/pid\nScoreboardFile {dir}/scores\n\
         DelayEngine off\nUseReverseDNS off\nWtmpLog off\nTransferLog none\nSystemLog none\nMaxClients 20\n\
         AllowOverwrite off\nAllowStoreRestart on\nModulePath {dir}\n"
    );
    let config = write(&club, "proftpd.conf", &config);
    // what it reads must not be writable by others
    fs::set_permissions(club.dir.path().join("passwd"), std::os::unix::fs::PermissionsExt::from_mode(0o600)).unwrap();
    let _running = start(&club, port, &proftpd, &["-n", "-c", &config]);
    story(&club, &format!("ftp://club@127.0.0.1:{port}{dir}/quarry"), "");
}

#[test]
fn pyftpdlib_plain_and_with_tls() {
    let Some(python) = program("python3") else { return skipped("Python") };
    let has = |module: &str| {
        Command::new(&python).args(["-c", &format!("import {module}")]).output().unwrap().status.success()
    };
    if !has("pyftpdlib") || !has("OpenSSL") {
        return skipped("pyftpdlib");
    }
    for tls in [false, true] {
        let club = Club::new();
        let (cert, key) = certificate(&club);
        let (dir, port) = (club.dir.path().display().to_string(), free_port());
        let (handler, setting) = match tls {
            true => ("TLS_FTPHandler", format!("H.certfile='{cert}'\nH.keyfile='{key}'\nH.tls_data_required=True\n")),
            false => ("FTPHandler", String::new()),
        };
        let script = format!(
            "from pyftpdlib.authorizers import DummyAuthorizer\nfrom pyftpdlib.handlers import {handler} as H\n\
             from pyftpdlib.servers import FTPServer\na=DummyAuthorizer()\n\
             a.add_user('club','{}','{dir}',perm='elradfmwMT')\nH.authorizer=a\n{setting}\
             FTPServer(('127.0.0.1',{port}),H).serve_forever()\n",
            yalotheca_standin::rented::PASSWORD
        );
        let script = write(&club, "host.py", &script);
        let _running = start(&club, port, &python, &[&script]);
        if tls {
            let address = format!("ftps://club@127.0.0.1:{port}/quarry");
            let trusted = fingerprint(&club, &address);
            story(&club, &address, &format!("--trust-host {trusted}"));
        } else {
            story(&club, &format!("ftp://club@127.0.0.1:{port}/quarry"), "");
        }
    }
}
