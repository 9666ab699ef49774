//! Host paths by type, row by row as measured on a kubelet (docs/facts/kubelet.md section 5).

#![expect(clippy::unwrap_used, reason = "a test that fails says where")]

use std::io;
use std::path::{Path, PathBuf};

use mivask_core::prepare;
use mivask_core::question::mounts;
use mivask_read::diagnostic::Diagnostics;
use mivask_read::input::{FileReader, Origin, read_input};

/// Two files in memory.
struct Memory {
    manifest: String,
}

const HOST: &str = "\
scene: 1
workloads: [pod.yaml]
host:
  tree:
    - { path: /srv, kind: dir, owner: '0:50', mode: 2775 }
    - { path: /srv/dir, kind: dir, owner: '405:50', mode: 0750 }
    - { path: /srv/file, owner: '405:50', mode: 0640 }
    - { path: /srv/socket, kind: socket, owner: '405:50', mode: 0660 }
    - { path: /srv/link, kind: link, owner: '0:0', target: dir }
    - { path: /srv/dangling, kind: link, owner: '0:0', target: nowhere }
    - { path: /plain, kind: dir, owner: '0:0', mode: 0755 }
";

impl FileReader for Memory {
    fn read(&self, path: &Path) -> io::Result<Vec<u8>> {
        match path.to_str() {
            Some("scene.yaml") => Ok(HOST.as_bytes().to_vec()),
            Some("pod.yaml") => Ok(self.manifest.as_bytes().to_vec()),
            _ => Err(io::ErrorKind::NotFound.into()),
        }
    }

    fn folder(&self, _: &Path) -> io::Result<Option<Vec<PathBuf>>> {
        Ok(None)
    }

    fn standard_input(&self) -> io::Result<Vec<u8>> {
        Ok(Vec::new())
    }
}

/// `uid:gid mode` of what the container sees, or the status of a refusal.
fn seen(host_path: &str) -> String {
    let manifest = format!(
        "apiVersion: v1\nkind: Pod\nmetadata: {{ name: p }}\nspec:\n  securityContext: {{ runAsUser: 1000, fsGroup: 7000 \
         }}\n  containers: [{{ name: c, image: i, volumeMounts: [{{ name: v, mountPath: /v }}] }}]\n  volumes: [{{ name: \
         v, hostPath: {host_path} }}]\n"
    );
    let mut diagnostics = Diagnostics::default();
    let scene =
        read_input(&Origin::of(Path::new("scene.yaml")), &Memory { manifest }, &mut diagnostics).unwrap();
    assert!(
        !diagnostics.has_errors(),
        "{:?}",
        diagnostics.iter().map(|diagnostic| &diagnostic.message).collect::<Vec<_>>()
    );
    let stage = prepare::stage(&scene);
    let actor = &stage.actors[0];
    if let Some(refusal) = actor.refusal() {
        return refusal.class.to_string();
    }
    // What is not listed is not known.
    let row = mounts(&stage, actor).into_iter().find(|row| row.at == b"/v").unwrap();
    row.root.map_or("not known".to_owned(), |root| format!("{}:{} {}", root.uid, root.gid, root.mode))
}

macro_rules! host_paths {
    ($($name:ident: $host_path:literal => $expected:literal;)+) => {$(
        #[test]
        fn $name() {
            assert_eq!(seen($host_path), $expected);
        }
    )+};
}

host_paths! {
    what_is_there_stays_as_it_is: "{ path: /srv/dir }" => "405:50 0750";
    a_file_is_mounted_too: "{ path: /srv/file }" => "405:50 0640";
    a_link_is_followed: "{ path: /srv/link, type: Directory }" => "405:50 0750";
    missing_without_type_is_a_directory: "{ path: /plain/new }" => "0:0 0755";
    missing_below_setgid_takes_the_group: "{ path: /srv/new }" => "0:50 2755";
    missing_with_parents: "{ path: /plain/a/b, type: DirectoryOrCreate }" => "0:0 0755";
    missing_file_is_made: "{ path: /plain/new, type: FileOrCreate }" => "0:0 0644";
    missing_file_without_parent: "{ path: /plain/a/new, type: FileOrCreate }" => "FailedMount";
    missing_directory: "{ path: /plain/new, type: Directory }" => "FailedMount";
    missing_file: "{ path: /plain/new, type: File }" => "FailedMount";
    a_directory_is_no_file: "{ path: /srv/dir, type: File }" => "FailedMount";
    a_file_is_no_directory: "{ path: /srv/file, type: DirectoryOrCreate }" => "FailedMount";
    a_socket: "{ path: /srv/socket, type: Socket }" => "405:50 0660";
    a_dangling_link: "{ path: /srv/dangling }" => "CreateContainerError";
    a_dangling_link_that_must_be_there: "{ path: /srv/dangling, type: Directory }" => "FailedMount";
    what_nobody_listed_is_not_known: "{ path: /var/log, type: Directory }" => "not known";
    a_directory_is_no_socket: "{ path: /srv/dir, type: Socket }" => "FailedMount";
}
