//! Images: layers on top of each other, and which image of several.

#![expect(clippy::unwrap_used, reason = "a test that fails says where")]

mod fixtures;

use std::collections::BTreeMap;
use std::path::Path;

use mivask_disk::error::DiskError;
use mivask_disk::gathered::Gathered;
use mivask_disk::image::Choice;
use mivask_disk::live::Options;
use mivask_disk::source;
use serde_json::json;
use tar::EntryType;

use fixtures::{DIR, FILE, Member, archive, gather, listing};

/// Three layers: files, what is taken away and put back, and a link to the lowest.
fn layers() -> [Vec<u8>; 3] {
    [
        archive(&[
            Member { path: "etc/", ..DIR },
            Member { path: "etc/passwd", content: b"root:x:0:0::/:/bin/sh\ngauge:x:7101:7200::/:\n", ..FILE },
            Member { path: "etc/group", content: b"root:x:0:\n", ..FILE },
            Member { path: "opt/", ..DIR },
            Member { path: "opt/a/", owner: (7101, 7200), mode: 0o750, ..DIR },
            Member { path: "opt/a/old", ..FILE },
            Member { path: "opt/a/gone", ..FILE },
            Member { path: "opt/b/", ..DIR },
            Member { path: "opt/b/hidden", ..FILE },
        ]),
        archive(&[
            Member { path: "opt/a/.wh.gone", ..FILE },
            // The order within a layer does not matter: what it adds itself stays.
            Member { path: "opt/b/new", mode: 0o600, ..FILE },
            Member { path: "opt/b/.wh..wh..opq", ..FILE },
            Member { path: "etc/.wh.group", ..FILE },
        ]),
        archive(&[
            Member { path: "opt/a/", owner: (7101, 7300), mode: 0o2770, ..DIR },
            Member { path: "opt/a/again", kind: EntryType::Link, link: "opt/a/old", ..FILE },
            Member { path: "opt/a/gone", mode: 0o604, ..FILE },
        ]),
    ]
}

const EXPECTED: &str = "drwxr-xr-x 0/0 - .\ndrwxr-xr-x 0/0 - ./etc\n-rw-r--r-- 0/0 - ./etc/passwd\ndrwxr-xr-x 0/0 - ./opt\n\
    drwxrws--- 7101/7300 - ./opt/a\n-rw-r--r-- 0/0 - ./opt/a/again\n-rw----r-- 0/0 - ./opt/a/gone\n\
    -rw-r--r-- 0/0 - ./opt/a/old link to ./opt/a/again\ndrwxr-xr-x 0/0 - ./opt/b\n-rw------- 0/0 - ./opt/b/new\n";

fn config(user: &str) -> Vec<u8> {
    json!({
        "architecture": "amd64", "os": "linux",
        "config": { "User": user, "WorkingDir": "/opt/a", "Volumes": { "/opt/b": {} } },
        "rootfs": { "type": "layers", "diff_ids": [] },
    })
    .to_string()
    .into_bytes()
}

/// A made-up digest: what it is made of does not matter to a reader of ownership.
fn digest(number: usize) -> String {
    format!("{number:064x}")
}

/// The files of an OCI layout with these images, each a name, a platform and layers.
fn layout(images: &[(&str, &str, Vec<Vec<u8>>)]) -> BTreeMap<String, Vec<u8>> {
    let mut files =
        BTreeMap::from([("oci-layout".to_owned(), br#"{"imageLayoutVersion":"1.0.0"}"#.to_vec())]);
    let mut blob = |bytes: Vec<u8>, media: &str| {
        let digest = digest(files.len());
        let told = json!({ "mediaType": media, "digest": format!("sha256:{digest}"), "size": bytes.len() });
        files.insert(format!("blobs/sha256/{digest}"), bytes);
        told
    };
    let mut manifests = Vec::new();
    for (name, platform, layers) in images {
        let config = blob(config(name), "application/vnd.oci.image.config.v1+json");
        let layers: Vec<_> = layers
            .iter()
            .map(|layer| blob(layer.clone(), "application/vnd.oci.image.layer.v1.tar"))
            .collect();
        let manifest = json!({ "schemaVersion": 2, "config": config, "layers": layers });
        let mut told = blob(manifest.to_string().into_bytes(), "application/vnd.oci.image.manifest.v1+json");
        let (os, arch) = platform.split_once('/').unwrap();
        told["platform"] = json!({ "os": os, "architecture": arch });
        told["annotations"] = json!({ "org.opencontainers.image.ref.name": name });
        manifests.push(told);
    }
    files.insert(
        "index.json".to_owned(),
        json!({ "schemaVersion": 2, "manifests": manifests }).to_string().into_bytes(),
    );
    files
}

fn write(folder: &Path, files: &BTreeMap<String, Vec<u8>>) {
    for (name, bytes) in files {
        let path = folder.join(name);
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(path, bytes).unwrap();
    }
}

fn packed(files: &BTreeMap<String, Vec<u8>>) -> Vec<u8> {
    let members: Vec<Member<'_>> =
        files.iter().map(|(name, bytes)| Member { path: name, content: bytes, ..FILE }).collect();
    archive(&members)
}

fn choose(bytes: &[u8], name: Option<&str>, platform: Option<&str>) -> Result<Gathered, DiskError> {
    let choice = Choice {
        name: name.map(ToOwned::to_owned),
        platform: platform.map(ToOwned::to_owned),
        name_is_a_hint: false,
    };
    source::read("image", &mut &bytes[..], &Options { choice, ..Options::default() })
}

fn check(gathered: &Gathered) {
    assert_eq!(listing(&gathered.tree), EXPECTED);
    let accounts = gathered.accounts.as_ref().unwrap();
    assert!(accounts.passwd.as_ref().unwrap().starts_with(b"root:") && accounts.group.is_none());
    let image = gathered.image.as_ref().unwrap();
    assert_eq!((image.user.as_deref(), image.working_directory.as_deref()), (Some("gauge"), Some("/opt/a")));
    assert_eq!(image.volumes, ["/opt/b"]);
}

#[test]
fn a_layout_is_a_folder_or_an_archive_with_layers_packed_or_not() {
    let [low, middle, high] = layers();
    let middle = zstd::encode_all(&middle[..], 1).unwrap();
    let mut gzip = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    std::io::Write::write_all(&mut gzip, &high).unwrap();
    let files = layout(&[("gauge", "linux/amd64", vec![low, middle, gzip.finish().unwrap()])]);
    let folder = tempfile::tempdir().unwrap();
    write(folder.path(), &files);
    check(&gather(folder.path()).unwrap());
    check(&choose(&packed(&files), None, None).unwrap());
    // `tar -C folder -c .` begins with the folder itself, in some formats after an extended header.
    let mut members = vec![Member { path: "./", ..DIR }];
    let inside: Vec<String> = files.keys().map(|name| format!("./{name}")).collect();
    members.extend(inside.iter().zip(files.values()).map(|(path, content)| Member { path, content, ..FILE }));
    check(&choose(&archive(&members), None, None).unwrap());
    let pax = Member { path: "PaxHeaders", content: b"17 comment=tides\n", kind: EntryType::XHeader, ..FILE };
    members.insert(0, pax);
    check(&choose(&archive(&members), None, None).unwrap());
    let other = choose(&archive(&members), Some("tides/other"), None).unwrap_err();
    assert!(other.to_string().contains("tides/other"), "{other}");
}

#[test]
fn an_engines_archive() {
    let [low, middle, high] = layers();
    let (config_name, manifest) = (
        format!("{}.json", digest(9)),
        json!([{ "Config": format!("{}.json", digest(9)), "RepoTags": ["tides/gauge:3"],
                 "Layers": ["a/layer.tar", "b/layer.tar", "c/layer.tar"] }]),
    );
    let low_name = format!("{}/layer.tar", digest(1));
    let bytes = archive(&[
        Member { path: &low_name, content: &low, ..FILE },
        Member { path: "a/layer.tar", kind: EntryType::Symlink, link: &format!("../{low_name}"), ..FILE },
        Member { path: "b/layer.tar", content: &middle, ..FILE },
        Member { path: "c/layer.tar", content: &high, ..FILE },
        Member { path: &config_name, content: &config("gauge"), ..FILE },
        Member { path: "manifest.json", content: manifest.to_string().as_bytes(), ..FILE },
    ]);
    check(&choose(&bytes, None, None).unwrap());
    check(&choose(&bytes, Some("registry.example/tides/gauge:3"), None).unwrap());
    let error = choose(&bytes, Some("tides/press:1"), None).unwrap_err().to_string();
    assert_eq!(error, "image: there is no image tides/press:1 in it, but tides/gauge:3");
}

#[test]
fn one_of_several_is_chosen_by_name_and_platform() {
    let layer = |mode| vec![archive(&[Member { path: "f", mode, ..FILE }])];
    let bytes = packed(&layout(&[
        ("gauge", "linux/amd64", layer(0o600)),
        ("gauge", "linux/arm64", layer(0o640)),
        ("press", "linux/amd64", layer(0o644)),
    ]));
    let mode = |name, platform| {
        choose(&bytes, name, platform)
            .map(|gathered| listing(&gathered.tree).lines().last().unwrap()[..10].to_owned())
            .map_err(|error| error.to_string())
    };
    assert_eq!(mode(Some("gauge"), Some("linux/amd64")).unwrap(), "-rw-------");
    assert_eq!(mode(Some("gauge"), Some("linux/arm64")).unwrap(), "-rw-r-----");
    assert_eq!(mode(Some("press"), None).unwrap(), "-rw-r--r--");
    assert_eq!(
        mode(None, None).unwrap_err(),
        "image: it holds several images (gauge, press): say which with --reference"
    );
    assert_eq!(
        mode(Some("gauge"), Some("linux/s390x")).unwrap_err(),
        "image: it has no image for linux/s390x, but for linux/amd64, linux/arm64: say which with --platform"
    );
}

#[test]
fn what_is_missing_is_said() {
    let mut files = layout(&[("gauge", "linux/amd64", layers().to_vec())]);
    let gone = files.keys().filter(|name| name.starts_with("blobs")).nth(1).unwrap().clone();
    files.remove(&gone);
    let error = choose(&packed(&files), None, None).unwrap_err().to_string();
    assert!(error.contains("is missing in it"), "{error}");
    let folder = tempfile::tempdir().unwrap();
    write(folder.path(), &files);
    let error = gather(folder.path()).unwrap_err().to_string();
    assert!(error.contains(&gone) && error.contains("No such file"), "{error}");
}

/// A layer that cannot be read spoils no image but those that are made of it; a link's header counts for its inode.
#[test]
fn a_broken_layer_spoils_its_own_image_alone() {
    let link = Member { path: "h", kind: EntryType::Link, link: "a", owner: (99, 0), mode: 0o600, ..FILE };
    let whole = archive(&[Member { path: "a", owner: (5, 6), ..FILE }, link]);
    let broken = [&archive(&[FILE])[..512], &[b'x'; 1024][..]].concat();
    let files =
        layout(&[("tides/one:1", "linux/amd64", vec![whole]), ("tides/two:1", "linux/amd64", vec![broken])]);
    let bytes = packed(&files);
    let one = choose(&bytes, Some("tides/one:1"), Some("linux/amd64")).unwrap();
    assert_eq!(
        listing(&one.tree),
        "drwxr-xr-x 0/0 - .\n-rw------- 99/0 - ./a\n-rw------- 99/0 - ./h link to ./a\n"
    );
    let two = choose(&bytes, Some("tides/two:1"), Some("linux/amd64")).unwrap_err();
    assert!(two.message.contains("its checksum does not match"), "{two}");
}
