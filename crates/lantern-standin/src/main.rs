//! Plays the outside world for Warm Lantern's demo and tests.
//!
//! Everything here is made up: Verdance, the game about greenhouses in orbit, and its server halcyon.
//! The stand-in server is a real process with a real console, a real port and real files.

mod depot;
mod doors;
mod halcyon;
mod line;
mod page;
mod relay;
mod remote;
mod scenario;
mod sftp;
mod tramway;
mod triad;

use clap::{Parser, Subcommand};
use std::net::IpAddr;
use std::path::PathBuf;
use std::process::ExitCode;

#[derive(Parser)]
#[command(name = "lantern-standin", version, about)]
struct Cli {
    #[command(subcommand)]
    command: Command,
}

#[derive(Subcommand)]
enum Command {
    /// Run a halcyon server in the current folder
    Halcyon {
        /// The server version that it plays
        #[arg(long)]
        build: String,
        /// The framework version that the start script asks for
        #[arg(long)]
        lattice: Option<String>,
        /// The seed of its world
        #[arg(long)]
        seed: Option<String>,
        /// Words that mean nothing to it, as servers pass over what they do not know
        #[arg(hide = true)]
        rest: Vec<String>,
    },
    /// Run a tramway server in the current folder
    Tramway {
        /// The server version that it plays
        #[arg(long)]
        build: String,
    },
    /// Run a triad server in the current folder
    Triad {
        /// The server version that it plays
        #[arg(long)]
        build: String,
        /// Its settings
        #[arg(long, default_value = "triad.ini")]
        settings: String,
        /// Its world
        #[arg(long, default_value = "saved/north.world")]
        world: String,
    },
    /// Make a halcyon server of a gibibyte for measurements: 300 archives, 12,000 small files
    Bulk {
        /// The folder; made when it is not there
        dir: PathBuf,
    },
    /// Serve the files of a folder over HTTP, well or badly
    Depot {
        /// The folder
        dir: PathBuf,
        /// The port; a free one otherwise
        #[arg(long, default_value_t = 0)]
        port: u16,
        /// Write down what it is asked
        #[arg(long)]
        log: Option<PathBuf>,
        /// Serve HTTPS, too, and write the certificate that vouches for it
        #[arg(long)]
        ca: Option<PathBuf>,
    },
    /// Put a slow line before a program: what it reads and prints comes later
    Line {
        /// How long it is from a question to its answer
        #[arg(long, default_value_t = 0)]
        round_trip_ms: u64,
        /// How much goes each way; no limit otherwise
        #[arg(long, default_value_t = 0)]
        bytes_per_s: u64,
        /// Cut it after so many bytes have come back
        #[arg(long)]
        cut_after: Option<u64>,
        /// Write down how many bytes went there and came back
        #[arg(long)]
        log: Option<PathBuf>,
        /// The program, with its arguments
        #[arg(required = true, trailing_var_arg = true, allow_hyphen_values = true)]
        command: Vec<String>,
    },
    /// Put a slow line before a server: who connects to a port here is led to the same one at another address
    Relay {
        /// How long it is from a question to its answer
        #[arg(long, default_value_t = 0)]
        round_trip_ms: u64,
        /// How much goes each way, on all connections together; no limit otherwise
        #[arg(long, default_value_t = 0)]
        bytes_per_s: u64,
        /// Write down how many bytes went there and came back
        #[arg(long)]
        log: Option<PathBuf>,
        /// The other address
        to: IpAddr,
        /// The ports
        #[arg(required = true)]
        ports: Vec<u16>,
    },
    /// Press a button of a host's page, for a server in a folder
    Page {
        /// Which
        button: page::Button,
        /// The folder
        folder: PathBuf,
    },
    /// Speak SFTP for a folder over what is read and printed, as a host's file transfer account that may only look
    Sftp {
        /// Let it write, too
        #[arg(long)]
        writes: bool,
        /// Let it write no more than so many bytes
        #[arg(long, value_name = "BYTES")]
        quota: Option<u64>,
        /// The folder
        folder: PathBuf,
    },
    /// Print the BLAKE3 of files, for measurements
    Sums {
        /// The files
        files: Vec<PathBuf>,
    },
    /// Make the demo's servers, catalogue and releases in a folder
    Make {
        /// The folder; made when it is not there
        dir: PathBuf,
    },
}

fn sums(files: &[PathBuf]) -> std::io::Result<u8> {
    for file in files {
        println!("{}", blake3::hash(&std::fs::read(file)?).to_hex());
    }
    Ok(0)
}

fn main() -> ExitCode {
    let done = match Cli::parse().command {
        Command::Halcyon {
            build,
            lattice,
            seed,
            rest: _,
        } => halcyon::run(&build, lattice.as_deref(), seed.as_deref()),
        Command::Tramway { build } => tramway::run(&build),
        Command::Triad {
            build,
            settings,
            world,
        } => triad::run(&build, &settings, &world),
        Command::Depot { dir, port, log, ca } => depot::run(&depot::Depot {
            folder: &dir,
            port,
            log: log.as_deref(),
            ca: ca.as_deref(),
        }),
        Command::Line {
            round_trip_ms,
            bytes_per_s,
            cut_after,
            log,
            command,
        } => {
            let pace = line::Pace {
                round_trip_ms,
                bytes_per_s,
            };
            let line = line::Line {
                pace,
                cut_after,
                log: log.as_deref(),
            };
            line::run(&line, &command)
        }
        Command::Relay {
            round_trip_ms,
            bytes_per_s,
            log,
            to,
            ports,
        } => {
            let pace = line::Pace {
                round_trip_ms,
                bytes_per_s,
            };
            relay::run(pace, to, &ports, log.as_deref())
        }
        Command::Page { button, folder } => page::press(button, &folder),
        Command::Sftp {
            writes,
            quota,
            folder,
        } => sftp::run(&folder, writes, quota),
        Command::Sums { files } => sums(&files),
        Command::Bulk { dir } => scenario::bulk(&dir).map(|()| 0),
        Command::Make { dir } => scenario::make(&dir).map(|()| 0),
    };
    match done {
        Ok(status) => ExitCode::from(status),
        Err(error) => {
            eprintln!("lantern-standin: {error}");
            ExitCode::FAILURE
        }
    }
}
