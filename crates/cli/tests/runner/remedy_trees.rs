//! What lets an act succeed on a whole tree, and how much of it each change reaches.

use insta::assert_snapshot;

use crate::scratch::Scratch;

/// A claim of shards, of whose files most are a group's and the others their owner's alone.
fn shards(count: usize) -> Scratch {
    let mut tree = vec!["    - { path: /, kind: dir, owner: '1000:2000', mode: '0750' }".to_owned()];
    for shard in 0..count {
        tree.push(format!("    - {{ path: /s{shard}, kind: dir, owner: '1000:2000', mode: '0750' }}"));
        for file in 0..10 {
            let (owner, mode) = if file == 0 { ("1000:1000", "0600") } else { ("1000:2000", "0640") };
            tree.push(format!("    - {{ path: /s{shard}/b{file}, owner: '{owner}', mode: '{mode}' }}"));
        }
    }
    let pod = "\
apiVersion: v1
kind: Pod
metadata: { name: blobs }
spec:
  containers:
  - name: store
    image: i
    securityContext: { runAsUser: 1500, runAsGroup: 1500 }
    volumeMounts:
    - { name: blobs, mountPath: /blobs }
  volumes:
  - name: blobs
    persistentVolumeClaim: { claimName: blobs }
";
    let scene = format!(
        "scene: 1\nworkloads: [pod.yaml]\nimages:\n  i: {{ user: null, accounts: null }}\nvolumes:\n  blobs:\n    filesystem: ext4\n    group-ownership: apply\n    tree:\n{}\n",
        tree.join("\n")
    );
    Scratch::with("s.yaml", &scene).and("pod.yaml", pod)
}

#[test]
fn changes_are_compared_by_what_they_reach() {
    assert_snapshot!(shards(4).run(["remedy", "s.yaml", "store reads /blobs/**", "-q", "--most", "9"]), @"
    denied       store reads /blobs/**
                 45 of 45 paths are refused

    1  disk     for store sets-group 1500 on /blobs/**
       disk     for store sets-mode g+rX on /blobs/**
                reaches all of 45
                opens nothing else; touches 45 inodes
                # as root, where claim blobs is mounted as store has it
                chgrp -R 1500 /blobs
                chmod -R g+rX /blobs

    2  process  store filesystem-group 2000
                reaches all of 45
                opens 85 more: store can write /blobs/s0/b0, /blobs/s1/b0, /blobs/s2/b0 and 37 more; store can create /blobs, /blobs/s0, /blobs/s1 and 2 more; store can delete /blobs/s0/b0, /blobs/s1/b0, /blobs/s2/b0 and 37 more; touches 45 inodes
                2000 is the group that the files have
                --- pod.yaml
                +++ pod.yaml
                @@ -12,2 +12,4 @@
                   - name: blobs
                     persistentVolumeClaim: { claimName: blobs }
                +  securityContext:
                +    fsGroup: 2000

    3  process  store filesystem-group 1500
                reaches all of 45
                opens 85 more: store can write /blobs/s0/b0, /blobs/s1/b0, /blobs/s2/b0 and 37 more; store can create /blobs, /blobs/s0, /blobs/s1 and 2 more; store can delete /blobs/s0/b0, /blobs/s1/b0, /blobs/s2/b0 and 37 more; touches 45 inodes
                1500 is the group that store has
                --- pod.yaml
                +++ pod.yaml
                @@ -12,2 +12,4 @@
                   - name: blobs
                     persistentVolumeClaim: { claimName: blobs }
                +  securityContext:
                +    fsGroup: 1500

    4  process  store becomes 1000
                reaches all of 45
                opens 85 more: store can write /blobs/s0/b0, /blobs/s1/b0, /blobs/s2/b0 and 37 more; store can create /blobs, /blobs/s0, /blobs/s1 and 2 more; store can delete /blobs/s0/b0, /blobs/s1/b0, /blobs/s2/b0 and 37 more
                --- pod.yaml
                +++ pod.yaml
                @@ -6,5 +6,5 @@
                   - name: store
                     image: i
                -    securityContext: { runAsUser: 1500, runAsGroup: 1500 }
                +    securityContext: { runAsUser: 1000, runAsGroup: 1500 }
                     volumeMounts:
                     - { name: blobs, mountPath: /blobs }

    5  disk     for store sets-owner 1500 on /blobs/**
                reaches all of 45
                opens 85 more: store can write /blobs/s0/b0, /blobs/s1/b0, /blobs/s2/b0 and 37 more; store can create /blobs, /blobs/s0, /blobs/s1 and 2 more; store can delete /blobs/s0/b0, /blobs/s1/b0, /blobs/s2/b0 and 37 more; touches 45 inodes
                # as root, where claim blobs is mounted as store has it
                chown -R 1500 /blobs

    6  process  store joins 2000
                reaches 41 of 45
                opens nothing else
                --- pod.yaml
                +++ pod.yaml
                @@ -12,2 +12,5 @@
                   - name: blobs
                     persistentVolumeClaim: { claimName: blobs }
                +  securityContext:
                +    supplementalGroups:
                +      - 2000

    7  process  store becomes 1500:2000
                reaches 41 of 45
                opens nothing else
                its group is 2000 then, not 1500
                --- pod.yaml
                +++ pod.yaml
                @@ -6,5 +6,5 @@
                   - name: store
                     image: i
                -    securityContext: { runAsUser: 1500, runAsGroup: 1500 }
                +    securityContext: { runAsUser: 1500, runAsGroup: 2000 }
                     volumeMounts:
                     - { name: blobs, mountPath: /blobs }
    --- status 0
    ");
}

#[test]
fn what_reaches_all_of_it_is_held_by_an_expectation() {
    let scratch = shards(2);
    let found = scratch.json(["remedy", "s.yaml", "store reads /blobs/**", "-q", "--format", "json"]);
    assert_eq!((found["paths"].as_u64(), found["allowed"].as_u64()), (Some(23), Some(0)));
    let remedies = found["remedies"].as_array().cloned().unwrap_or_default();
    let mut whole = 0;
    for one in &remedies {
        let changes = one["remedy"]["changes"].as_array().cloned().unwrap_or_default();
        let changes: Vec<&str> = changes.iter().filter_map(|one| one["change"].as_str()).collect();
        let mut words = vec!["uphold", "s.yaml", "-q", "--expect", "all.acts"];
        words.extend(changes.iter().flat_map(|change| ["--change", *change]));
        std::fs::write(scratch.path().join("all.acts"), "store reads /blobs/**\n").expect("a file");
        let said = scratch.run(&words);
        let all = one["reaches"] == found["paths"];
        whole += usize::from(all);
        assert_eq!(said.contains("1 hold"), all, "{changes:?}: {said}");
    }
    assert!(whole >= 3 && whole < remedies.len(), "{found}");
}

#[test]
fn a_tree_that_is_open_and_one_that_is_not_there() {
    let scratch = shards(1);
    let said =
        scratch.run(["remedy", "s.yaml", "store reads /blobs/**", "-q", "--change", "store becomes 1000"]);
    assert!(
        said.contains("0 of 12 paths are refused") && said.contains("There is nothing to mend."),
        "{said}"
    );
    let said = scratch.run(["remedy", "s.yaml", "store reads /none/**", "-q"]);
    assert!(said.contains("0 of 1 paths are refused, 1 depends on missing facts"), "{said}");
    assert!(said.starts_with("depends") && !said.contains("nothing to mend"), "{said}");
    let said = scratch.run(["remedy", "s.yaml", "store reads /blobs/[", "-q"]);
    assert!(said.ends_with("--- status 2"), "{said}");
    let said = scratch.run(["remedy", "s.yaml", "nobody reads /blobs/**", "-q"]);
    assert!(said.contains("there is no actor `nobody`") && said.ends_with("--- status 2"), "{said}");
}
