//! Servers of each protocol that somebody else wrote, on this machine, for tests.

#![allow(clippy::disallowed_methods, clippy::disallowed_types)] // They are started here.

use super::{Address, Means, Password, Place, open};
use std::fs;
use std::io::{self, Read};
use std::net::{TcpListener, TcpStream};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::Arc;
use std::sync::atomic::{AtomicU16, AtomicU32, Ordering};
use std::time::Duration;
use tempfile::TempDir;

const SFTP: &str = "/usr/lib/openssh/sftp-server";
const VSFTPD: &str = "/usr/sbin/vsftpd";
const PYTHON: &str = "/usr/bin/python3";
const PYFTPDLIB: &str = "/usr/lib/python3/dist-packages/pyftpdlib";
const ASYNCSSH: &str = "/usr/lib/python3/dist-packages/asyncssh";
const SSHD: &str = "/usr/sbin/sshd";

/// asyncssh's server: everybody may come in, and gets all of this machine. Its words are the port and the host's key.
const IN_PYTHON: &str = "
import asyncio, asyncssh, sys
class Anybody(asyncssh.SSHServer):
    def begin_auth(self, username):
        return False
async def serve():
    await asyncssh.listen('127.0.0.1', int(sys.argv[1]), server_factory=Anybody,
                          server_host_keys=[sys.argv[2]], sftp_factory=asyncssh.SFTPServer)
    await asyncio.Event().wait()
asyncio.run(serve())
";

/// Which server.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Server {
    /// OpenSSH's server of SFTP.
    Sftp,
    /// asyncssh's server of SFTP, behind SSH.
    SftpInPython,
    /// OpenSSH's server of SFTP behind SSH, for an account that sees one folder as all there is; it needs root.
    SftpShutIn,
    /// pyftpdlib, which knows the listings of RFC 3659.
    Ftp,
    /// vsftpd, which prints its listings for people, as `ls` does.
    FtpForPeople,
    /// vsftpd behind TLS; each connection for data has to go on from the one for commands.
    Ftps,
}

/// A server that runs; it ends with this.
pub struct Served {
    server: Server,
    port: u16,
    child: Option<Child>,
    dir: TempDir,
    number: u32,
}

impl Served {
    /// Starts a server that gives every folder of this machine, or but [`Served::room`]; none where it is not here, which fails when
    /// `CI` is set.
    pub fn start(server: Server) -> Option<Served> {
        static NUMBER: AtomicU32 = AtomicU32::new(0);
        let needed = match server {
            Server::Sftp => SFTP,
            Server::SftpInPython => ASYNCSSH,
            Server::SftpShutIn => SSHD,
            Server::Ftp => PYFTPDLIB,
            Server::FtpForPeople | Server::Ftps => VSFTPD,
        };
        if !Path::new(needed).exists() {
            let why = format!("{needed} is missing; scripts/test installs it");
            assert!(std::env::var_os("CI").is_none(), "{why}");
            eprintln!("not run: {why}");
            return None;
        }
        let dir = match server {
            // Nobody but root may be able to write above the folder in which somebody is shut in.
            Server::SftpShutIn => match tempfile::tempdir_in("/run") {
                Ok(dir) => dir,
                Err(error) => {
                    eprintln!("not run, as it needs root: {error}");
                    return None;
                }
            },
            _ => tempfile::tempdir().unwrap(),
        };
        let number = NUMBER.fetch_add(1, Ordering::Relaxed);
        // Between being found free and being taken, a port may be taken by somebody else.
        let started = (0..5).find_map(|_| {
            let port = free_port();
            Some((port, child(server, port, dir.path())?))
        });
        let (port, child) = started.expect("the server starts");
        Some(Served {
            server,
            port,
            child,
            dir,
            number,
        })
    }

    /// A folder that it gives.
    pub fn room(&self) -> TempDir {
        match self.server {
            Server::SftpShutIn => tempfile::tempdir_in(self.dir.path().join("all")).unwrap(),
            _ => tempfile::tempdir().unwrap(),
        }
    }

    /// Which one it is.
    pub fn server(&self) -> Server {
        self.server
    }

    /// The address of a folder.
    pub fn address(&self, folder: &Path) -> Address {
        self.address_at(&format!("served-{}.cut.example", self.number), folder)
    }

    /// The address of a folder at a host of this name, which is this machine.
    pub fn address_at(&self, host: &str, folder: &Path) -> Address {
        let (scheme, user) = match self.server {
            Server::Sftp | Server::SftpInPython | Server::SftpShutIn => ("sftp", ""),
            Server::Ftp => ("ftp", "ida@"),
            Server::FtpForPeople => ("ftp", ""),
            Server::Ftps => ("ftps", ""),
        };
        let folder = match self.server {
            Server::SftpShutIn => folder.strip_prefix(self.dir.path().join("all")).unwrap(),
            _ => folder.strip_prefix("/").unwrap(),
        };
        let address = format!("{scheme}://{user}{host}:{}/{}", self.port, folder.display());
        Address::parse(&address).unwrap()
    }

    /// How it is reached.
    pub fn means(&self) -> Means {
        Means {
            through: self.through(),
            shell: None,
            password: (self.server == Server::Ftp)
                .then(|| Password::File(self.dir.path().join("password"))),
            connections: None,
            ca: (self.server == Server::Ftps).then(|| self.dir.path().join("ca.pem")),
        }
    }

    fn through(&self) -> Option<Vec<String>> {
        let key = self.dir.path().join("key");
        match self.server {
            Server::Sftp => return Some(vec![SFTP.to_owned()]),
            Server::SftpInPython | Server::SftpShutIn => {}
            Server::Ftp | Server::FtpForPeople | Server::Ftps => return None,
        }
        let options = [
            "BatchMode=yes",
            "StrictHostKeyChecking=no",
            "UserKnownHostsFile=/dev/null",
            "LogLevel=ERROR",
        ];
        let mut command = vec!["ssh".to_owned(), "-F".into(), "none".into()];
        command.extend(
            options
                .iter()
                .flat_map(|it| ["-o".into(), (*it).to_owned()]),
        );
        command.extend(["-i".into(), key.display().to_string()]);
        command.extend(["-p".into(), self.port.to_string()]);
        command.extend(["-l", "root", "-s", "127.0.0.1", "sftp"].map(str::to_owned));
        Some(command)
    }

    /// Opens a folder that is there.
    pub fn open(&self, folder: &Path) -> Arc<dyn Place> {
        self.open_at(folder).unwrap()
    }

    /// Opens a folder.
    ///
    /// # Errors
    /// As [`open`].
    pub fn open_at(&self, folder: &Path) -> io::Result<Arc<dyn Place>> {
        open(&self.address(folder), &self.means())
    }

    /// Opens a folder at a host of another name.
    ///
    /// # Errors
    /// As [`open`].
    pub fn open_by_name(&self, host: &str, folder: &Path) -> io::Result<Arc<dyn Place>> {
        open(&self.address_at(host, folder), &self.means())
    }

    /// Opens a folder with another password.
    ///
    /// # Errors
    /// As [`open`].
    pub fn with_password(&self, password: &str, folder: &Path) -> io::Result<Arc<dyn Place>> {
        let file = self.dir.path().join("other-password");
        fs::write(&file, password).unwrap();
        let means = Means {
            password: Some(Password::File(file)),
            ..self.means()
        };
        open(&self.address(folder), &means)
    }
}

impl Drop for Served {
    fn drop(&mut self) {
        super::close(&format!("served-{}.cut.example", self.number));
        if let Some(child) = &mut self.child {
            let _ = child.kill();
            let _ = child.wait();
        }
    }
}

/// A port that is free now, below those that systems give to connections: whoever waits for a server there reaches nobody else's
/// connection for data.
fn free_port() -> u16 {
    static NEXT: AtomicU16 = AtomicU16::new(0);
    let first = std::process::id() as u16 % 10_000;
    loop {
        let port = 20_000 + (first + NEXT.fetch_add(7, Ordering::Relaxed) % 10_000) % 10_000;
        if TcpListener::bind(("127.0.0.1", port)).is_ok() {
            return port;
        }
    }
}

/// Starts a server at a port, where it is one that listens; none where it does not come up.
#[allow(clippy::option_option)]
fn child(server: Server, port: u16, dir: &Path) -> Option<Option<Child>> {
    let mut command = match server {
        Server::Sftp => return Some(None),
        Server::SftpInPython => {
            let mut command = Command::new(PYTHON);
            command.args(["-c", IN_PYTHON, &port.to_string()]);
            command.arg(key(dir));
            command
        }
        Server::SftpShutIn => shut_in(port, dir),
        Server::Ftp => {
            fs::write(dir.join("password"), "moss\n").unwrap();
            let mut command = Command::new(PYTHON);
            command.args([
                "-m",
                "pyftpdlib",
                "-w",
                "-i",
                "127.0.0.1",
                "-d",
                "/",
                "-u",
                "ida",
                "-P",
                "moss",
                "-p",
            ]);
            command.arg(port.to_string());
            command
        }
        Server::FtpForPeople | Server::Ftps => {
            let mut settings = format!(
                "listen=YES\nlisten_address=127.0.0.1\nlisten_port={port}\nbackground=NO\nanonymous_enable=YES\n\
                 local_enable=NO\nwrite_enable=YES\nanon_root=/\nanon_upload_enable=YES\nanon_mkdir_write_enable=YES\n\
                 anon_other_write_enable=YES\nanon_world_readable_only=NO\nanon_umask=022\nallow_writeable_chroot=YES\n\
                 no_anon_password=YES\nrun_as_launching_user=YES\nseccomp_sandbox=NO\npasv_address=127.0.0.1\n\
                 xferlog_enable=NO\nmax_per_ip=5\n"
            );
            if server == Server::Ftps {
                let certificate = certify(dir);
                settings += &format!(
                    "ssl_enable=YES\nallow_anon_ssl=YES\nforce_anon_data_ssl=YES\nforce_anon_logins_ssl=YES\n\
                     ssl_tlsv1=YES\nssl_ciphers=HIGH\nrequire_ssl_reuse=YES\nrsa_cert_file={0}\nrsa_private_key_file={0}\n",
                    certificate.display()
                );
            }
            let file = dir.join("vsftpd.conf");
            fs::write(&file, settings).unwrap();
            let mut command = Command::new(VSFTPD);
            command.arg(file);
            command
        }
    };
    let command = command.stdin(Stdio::null()).stdout(Stdio::null());
    let mut child = command.stderr(Stdio::null()).spawn().unwrap();
    for _ in 0..400 {
        if child.try_wait().unwrap().is_some() {
            return None;
        }
        let mut greeting = [0; 3];
        let greeted = TcpStream::connect(("127.0.0.1", port)).and_then(|mut line| {
            line.set_read_timeout(Some(Duration::from_secs(2)))?;
            line.read_exact(&mut greeting)
        });
        if greeted.is_ok() && (greeting == *b"220" || greeting == *b"SSH") {
            return Some(Some(child));
        }
        std::thread::sleep(Duration::from_millis(10));
    }
    let _ = child.kill();
    let _ = child.wait();
    None
}

/// A key of a host, which is here that of a user, too.
fn key(dir: &Path) -> PathBuf {
    let path = dir.join("key");
    if !path.exists() {
        let mut command = Command::new("ssh-keygen");
        command.args(["-q", "-t", "ed25519", "-N", "", "-f"]);
        assert!(command.arg(&path).status().unwrap().success());
    }
    path
}

fn shut_in(port: u16, dir: &Path) -> Command {
    let all = dir.join("all");
    fs::create_dir_all(&all).unwrap();
    fs::create_dir_all("/run/sshd").unwrap();
    let key = key(dir);
    let settings = format!(
        "ListenAddress 127.0.0.1:{port}\nHostKey {0}\nAuthorizedKeysFile {0}.pub\nPidFile none\nStrictModes no\n\
         PermitRootLogin prohibit-password\nPasswordAuthentication no\nKbdInteractiveAuthentication no\nUsePAM no\n\
         Subsystem sftp internal-sftp\nForceCommand internal-sftp\nChrootDirectory {1}\n",
        key.display(),
        all.display()
    );
    let file = dir.join("sshd.conf");
    fs::write(&file, settings).unwrap();
    for folder in [dir, &all] {
        use std::os::unix::fs::PermissionsExt;
        fs::set_permissions(folder, fs::Permissions::from_mode(0o755)).unwrap();
    }
    let mut command = Command::new(SSHD);
    command.args(["-D", "-f"]).arg(file);
    command
}

/// A disk of two megabytes, which ends with this.
pub struct SmallDisk(PathBuf);

impl SmallDisk {
    /// Mounts it at a folder; none where that is not allowed, which fails when `CI` is set.
    pub fn mount(path: &Path) -> Option<SmallDisk> {
        let mut mount = Command::new("mount");
        mount
            .args(["-t", "tmpfs", "-o", "size=2m", "tmpfs"])
            .arg(path);
        if mount.status().is_ok_and(|status| status.success()) {
            return Some(SmallDisk(path.to_owned()));
        }
        let why = "a small disk cannot be mounted here (needs root)";
        assert!(std::env::var_os("CI").is_none(), "{why}");
        eprintln!("not run, as {why}");
        None
    }
}

impl Drop for SmallDisk {
    fn drop(&mut self) {
        let _ = Command::new("umount").arg("-l").arg(&self.0).status();
    }
}

/// A certificate for this machine with its key, vouched for by one of its own.
fn certify(dir: &Path) -> PathBuf {
    use rcgen::{BasicConstraints, CertificateParams, CertifiedIssuer, IsCa, KeyPair};
    let key = || KeyPair::generate_for(&rcgen::PKCS_ECDSA_P256_SHA256).unwrap();
    let mut params = CertificateParams::new(Vec::new()).unwrap();
    params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
    let issuer = CertifiedIssuer::self_signed(params, key()).unwrap();
    fs::write(dir.join("ca.pem"), issuer.pem()).unwrap();
    let own = key();
    let params = CertificateParams::new(vec!["127.0.0.1".into()]).unwrap();
    let certificate = params.signed_by(&own, &issuer).unwrap();
    let path = dir.join("server.pem");
    fs::write(&path, certificate.pem() + &own.serialize_pem()).unwrap();
    path
}
