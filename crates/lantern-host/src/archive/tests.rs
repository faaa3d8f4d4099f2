use super::*;
use std::fs::{self, File};
use std::io::Seek;
use zip::ZipWriter;
use zip::write::SimpleFileOptions;

fn fault(make: impl FnOnce(&mut ZipWriter<File>)) -> ArchiveFault {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("a.zip");
    let mut zip = ZipWriter::new(File::create(&path).unwrap());
    make(&mut zip);
    zip.finish().unwrap();
    match Archive::open(&path).map(|mut archive| archive.contents()) {
        Err(Error::Archive { fault, .. }) | Ok(Err(fault)) => fault,
        other => panic!("{other:?}"),
    }
}

fn file(zip: &mut ZipWriter<File>, name: &str, content: &[u8]) {
    zip.start_file(name, SimpleFileOptions::default()).unwrap();
    zip.write_all(content).unwrap();
}

#[test]
fn hostile_archives_are_refused() {
    assert!(matches!(
        fault(|zip| file(zip, "../up", b"x")),
        ArchiveFault::Name(_)
    ));
    assert!(matches!(
        fault(|zip| file(zip, "/etc/x", b"x")),
        ArchiveFault::Name(_)
    ));
    assert!(matches!(
        fault(|zip| file(zip, "a\\..\\b", b"x")),
        ArchiveFault::Name(_)
    ));
    let link = |zip: &mut ZipWriter<File>| {
        zip.add_symlink("l", "/etc/passwd", SimpleFileOptions::default())
            .unwrap();
    };
    assert!(matches!(fault(link), ArchiveFault::Link(..)));
    let twins = |zip: &mut ZipWriter<File>| {
        file(zip, "Read.me", b"1");
        file(zip, "read.ME", b"2");
    };
    assert!(matches!(fault(twins), ArchiveFault::Same(..)));
    for names in [["a/b", "a/b/c"], ["a/b/c", "a/B"], ["x/y/z", "x"]] {
        let both = |zip: &mut ZipWriter<File>| names.iter().for_each(|name| file(zip, name, b"1"));
        assert!(
            matches!(fault(both), ArchiveFault::FileAndFolder(..)),
            "{names:?}"
        );
    }
    for name in ["COM1", "a/lpt3.txt", "a. ", "b/a\u{202e}gnp", "c\u{200b}"] {
        assert!(
            matches!(fault(|zip| file(zip, name, b"x")), ArchiveFault::Name(_)),
            "{name:?}"
        );
    }
    let bomb = |zip: &mut ZipWriter<File>| file(zip, "zeros", &vec![0; 80 << 20]);
    assert!(matches!(fault(bomb), ArchiveFault::Bomb(_)));
}

#[test]
fn a_tar_that_is_cut_anywhere_is_told_from_a_whole_one() {
    let mut tar = tar::Builder::new(Vec::new());
    for name in ["a", "b"] {
        let mut header = tar::Header::new_gnu();
        header.set_size(700);
        header.set_mode(0o644);
        header.set_cksum();
        // Its content ends as the closing blocks are.
        let mut content = vec![0; 700];
        content[0] = 1;
        tar.append_data(&mut header, name, &content[..]).unwrap();
    }
    let whole = tar.into_inner().unwrap();
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("a.tar");
    let open = |bytes: &[u8]| {
        fs::write(&path, bytes).unwrap();
        Archive::open(&path).map(|_| ())
    };
    open(&whole).unwrap();
    let end = 2 * (512 + 1024);
    assert!(whole.len() >= end + 1024);
    for length in (512..end + 1024).step_by(256) {
        assert!(open(&whole[..length]).is_err(), "{length}");
    }
}

#[test]
fn a_damaged_entry_is_found() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("a.zip");
    let mut zip = ZipWriter::new(File::create(&path).unwrap());
    let stored = SimpleFileOptions::default().compression_method(zip::CompressionMethod::Stored);
    zip.start_file("a", stored).unwrap();
    zip.write_all(b"the quick brown fox").unwrap();
    zip.finish().unwrap();
    let mut bytes = fs::read(&path).unwrap();
    let at = bytes.windows(5).position(|w| w == b"brown").unwrap();
    bytes[at] = b'c';
    fs::write(&path, &bytes).unwrap();
    let mut archive = Archive::open(&path).unwrap();
    assert!(matches!(archive.contents(), Err(ArchiveFault::Damaged(..))));
    fs::write(&path, &bytes[..bytes.len() / 2]).unwrap();
    let cut = Archive::open(&path).unwrap_err();
    assert!(matches!(
        cut,
        Error::Archive {
            fault: ArchiveFault::Broken(_),
            ..
        }
    ));
}

fn tar_fault(make: impl FnOnce(&mut tar::Builder<File>)) -> ArchiveFault {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("a.tar");
    let mut tar = tar::Builder::new(File::create(&path).unwrap());
    make(&mut tar);
    tar.finish().unwrap();
    drop(tar);
    match Archive::open(&path).map(|mut archive| archive.contents()) {
        Err(Error::Archive { fault, .. }) | Ok(Err(fault)) => fault,
        other => panic!("{other:?}"),
    }
}

#[test]
fn links_that_stay_inside_are_there_with_where_they_lead() {
    let links = [("tool/bin/run", "run-2"), ("tool/lib", "bin/../x")];
    let dir = tempfile::tempdir().unwrap();
    let (zipped, tarred) = (dir.path().join("a.zip"), dir.path().join("a.tar"));
    let write = |links: &[(&str, &str)]| {
        let mut zip = ZipWriter::new(File::create(&zipped).unwrap());
        let mut tar = tar::Builder::new(File::create(&tarred).unwrap());
        file(&mut zip, "tool/bin/run-2", b"x");
        tar.append(
            &header(b"tool/bin/run-2", tar::EntryType::Regular, 1),
            &b"x"[..],
        )
        .unwrap();
        for (path, target) in links {
            zip.add_symlink(*path, *target, SimpleFileOptions::default())
                .unwrap();
            let mut header = tar::Header::new_gnu();
            header.set_entry_type(tar::EntryType::Symlink);
            header.set_size(0);
            tar.append_link(&mut header, path, target).unwrap();
        }
        zip.finish().unwrap();
        tar.finish().unwrap();
    };
    write(&links[..1]);
    for path in [&zipped, &tarred] {
        let mut archive = Archive::open(path).unwrap();
        assert_eq!(archive.names(), ["tool/bin/run", "tool/bin/run-2"]);
        let contents = archive.contents().unwrap();
        let told: Vec<&str> = contents.iter().map(|it| it.blake3.as_str()).collect();
        assert_eq!(told[0], "link:run-2");
        // It is no text that a descriptor could be read from.
        assert_eq!(archive.text_at("tool/bin/run").unwrap(), None);
    }
    // Behind a name `..` may lead elsewhere than it seems; and nothing may lie behind a link.
    let refused = [
        links[1],
        ("tool/a", "../../b"),
        ("tool/a", "/etc"),
        ("tool/bin", "x"),
        ("tool/BIN/run-2", "x"),
    ];
    for link in refused {
        write(&[link]);
        for path in [&zipped, &tarred] {
            assert!(Archive::open(path).is_err(), "{link:?} in {path:?}");
        }
    }
}

/// A header whose name nobody has checked.
fn header(name: &[u8], kind: tar::EntryType, bytes: u64) -> tar::Header {
    let mut header = tar::Header::new_gnu();
    header.as_mut_bytes()[..name.len()].copy_from_slice(name);
    header.set_entry_type(kind);
    header.set_size(bytes);
    header.set_mode(0o644);
    header.set_cksum();
    header
}

#[test]
fn hostile_tar_archives_are_refused() {
    use tar::EntryType;
    let with = |name: &'static [u8], kind| {
        tar_fault(move |tar| tar.append(&header(name, kind, 1), &b"x"[..]).unwrap())
    };
    for name in [&b"../up"[..], b"/etc/x", b"a\\b", b"C:x", b"a/\x07", b"nul"] {
        let fault = with(name, EntryType::Regular);
        assert!(matches!(fault, ArchiveFault::Name(_)), "{name:?}: {fault}");
    }
    assert!(matches!(
        with(b"a\xff", EntryType::Regular),
        ArchiveFault::Broken(_)
    ));
    for kind in [
        EntryType::Symlink,
        EntryType::Link,
        EntryType::Char,
        EntryType::Fifo,
        EntryType::GNUSparse,
    ] {
        let fault = tar_fault(|tar| tar.append(&header(b"l", kind, 0), &b""[..]).unwrap());
        assert!(
            matches!(
                fault,
                ArchiveFault::Link(..) | ArchiveFault::Odd(_) | ArchiveFault::Broken(_)
            ),
            "{kind:?}: {fault}"
        );
    }
    let twice = |tar: &mut tar::Builder<File>| {
        for name in [b"a", b"A"] {
            tar.append(&header(name, EntryType::Regular, 1), &b"x"[..])
                .unwrap();
        }
    };
    assert!(matches!(tar_fault(twice), ArchiveFault::Same(..)));
    let long = vec![b'n'; 200 << 10];
    let name = |tar: &mut tar::Builder<File>| {
        tar.append(
            &header(b"long", EntryType::GNULongName, long.len() as u64),
            &long[..],
        )
        .unwrap();
        tar.append(&header(b"x", EntryType::Regular, 1), &b"x"[..])
            .unwrap();
    };
    assert!(matches!(tar_fault(name), ArchiveFault::Bomb(_)));
}

#[test]
fn a_packed_tar_may_not_unpack_to_far_more() {
    let dir = tempfile::tempdir().unwrap();
    for packing in ["gz", "zst"] {
        let path = dir.path().join(packing);
        let file = File::create(&path).unwrap();
        let write: Box<dyn Write> = match packing {
            "gz" => Box::new(flate2::write::GzEncoder::new(
                file,
                flate2::Compression::best(),
            )),
            _ => Box::new(
                zstd::stream::write::Encoder::new(file, 3)
                    .unwrap()
                    .auto_finish(),
            ),
        };
        let mut tar = tar::Builder::new(write);
        let zeros = header(b"zeros", tar::EntryType::Regular, 400 << 20);
        tar.append(&zeros, io::repeat(0).take(400 << 20)).unwrap();
        drop(tar.into_inner().unwrap());
        let fault = Archive::open(&path).unwrap_err();
        let too_much = matches!(
            &fault,
            Error::Archive {
                fault: ArchiveFault::Bomb(_),
                ..
            }
        );
        assert!(too_much, "{packing}: {fault}");
    }
}

/// Writes zeros as holes, so that a file of gibibytes takes no room.
struct Holes(File);

impl Write for Holes {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        if bytes.len() > 4096 && bytes.iter().all(|byte| *byte == 0) {
            self.0.seek(io::SeekFrom::Current(bytes.len() as i64))?;
            return Ok(bytes.len());
        }
        self.0.write(bytes)
    }

    fn flush(&mut self) -> io::Result<()> {
        self.0.flush()
    }
}

impl Seek for Holes {
    fn seek(&mut self, to: io::SeekFrom) -> io::Result<u64> {
        self.0.seek(to)
    }
}

#[test]
fn an_archive_of_more_than_four_gibibytes_is_read() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("large.zip");
    let mut zip = ZipWriter::new(Holes(File::create(&path).unwrap()));
    let stored = SimpleFileOptions::default()
        .compression_method(zip::CompressionMethod::Stored)
        .large_file(true);
    zip.start_file("content.bin", stored).unwrap();
    let zeros = vec![0; 8 << 20];
    for _ in 0..513 {
        zip.write_all(&zeros).unwrap();
    }
    zip.start_file("addon.toml", stored).unwrap();
    zip.write_all(b"id = 'large'").unwrap();
    zip.finish().unwrap();
    let mut archive = Archive::open(&path).unwrap();
    assert_eq!(archive.bytes(), (513 << 23) + 12);
    assert_eq!(
        archive.text_at("addon.toml").unwrap().as_deref(),
        Some("id = 'large'")
    );
}

fn whole_archives() -> Vec<Vec<u8>> {
    let mut zip = ZipWriter::new(io::Cursor::new(Vec::new()));
    for (name, text) in [
        ("addon.toml", "id = 'a'"),
        ("sub/b", "bbbbbbbbbbbbbbbbbbbbbbbb"),
    ] {
        zip.start_file(name, SimpleFileOptions::default()).unwrap();
        zip.write_all(text.as_bytes()).unwrap();
    }
    let mut tar = tar::Builder::new(Vec::new());
    tar.append(
        &header(b"addon.toml", tar::EntryType::Regular, 8),
        &b"id = 'a'"[..],
    )
    .unwrap();
    let tar = tar.into_inner().unwrap();
    let packed = zstd::encode_all(&tar[..], 3).unwrap();
    vec![zip.finish().unwrap().into_inner(), tar, packed]
}

proptest::proptest! {
    #![proptest_config(proptest::prelude::ProptestConfig::with_cases(300))]
    /// Whatever is done to an archive: it is refused, or all its names stay inside.
    #[test]
    fn no_archive_leads_outside(
        which in 0usize..3,
        changes in proptest::collection::vec((proptest::prelude::any::<proptest::sample::Index>(), proptest::prelude::any::<u8>()), 0..12),
        cut in proptest::option::of(proptest::prelude::any::<proptest::sample::Index>()),
    ) {
        let mut bytes = whole_archives().swap_remove(which);
        for (at, byte) in changes {
            let at = at.index(bytes.len());
            bytes[at] = byte;
        }
        if let Some(cut) = cut {
            bytes.truncate(cut.index(bytes.len()));
        }
        let mut file = tempfile::NamedTempFile::new().unwrap();
        file.write_all(&bytes).unwrap();
        if let Ok(mut archive) = Archive::open(file.path()) {
            for name in archive.names() {
                proptest::prop_assert!(RelPath::parse(name).is_ok());
            }
            let _ = archive.contents();
        }
    }
}
