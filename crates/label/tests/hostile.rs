//! Bytes that are no policy, or nearly one: an error or an answer, never a panic.

use mivask_label::{Policy, Problem};

const POLICY: &[u8] = include_bytes!("policy/containers.33");

/// Asks a policy that was read whatever it can be asked.
fn ask_everything(policy: &Policy) {
    let labels = [policy.unlabeled(), policy.without_attribute()];
    let classes: Vec<_> = policy.classes().map(mivask_label::Class::id).collect();
    for source in labels {
        for target in labels {
            for class in classes.iter().copied().take(12) {
                let decision = policy.decide(source, target, class);
                let refusals = policy.refusals(source, target, class, u32::MAX);
                assert!(refusals.iter().all(|refusal| refusal.permissions & decision.allowed == 0));
                let new = policy.new_label(source, target, class, Some(b"cache.db"));
                let text = new.map(|new| policy.text(&new));
                assert!(text.is_none_or(|text| !text.is_empty()));
                // The same label, changed to itself, is no reason to panic either.
                let _ = policy.may_change(source, target, source, class);
            }
        }
    }
    for constraint in policy.classes().flat_map(mivask_label::Class::constraints) {
        assert!(!policy.constraint_text(constraint).is_empty());
    }
    assert!(!policy.text(&policy.file_system("proc").label).is_empty());
}

#[test]
fn every_policy_that_is_cut_short_is_refused() {
    for length in (0..POLICY.len()).step_by(7).chain(0..400) {
        let error = Policy::read(&POLICY[..length]).unwrap_err();
        assert!(error.offset <= length, "{error}");
    }
}

#[test]
fn a_policy_that_goes_on_is_refused() {
    let longer = [POLICY, b"x"].concat();
    assert_eq!(Policy::read(&longer).unwrap_err().problem, Problem::Left(1));
}

#[test]
fn other_files_are_told_from_policies() {
    for bytes in [&b""[..], b"\x7fELF", b"SE Linux Module", &[0x8c, 0xff, 0x7c, 0xf9]] {
        assert_eq!(Policy::read(bytes).unwrap_err().problem, Problem::NotAPolicy);
    }
    for version in [0, 15, 29, 34, u32::MAX] {
        let mut other = POLICY.to_vec();
        other[16..20].copy_from_slice(&u32::to_le_bytes(version));
        assert_eq!(Policy::read(&other).unwrap_err().problem, Problem::Version(version));
    }
}

#[test]
fn changed_bytes_give_an_error_or_a_policy_that_answers() {
    let mut random = fastrand::Rng::with_seed(11);
    let mut read = 0;
    for turn in 0..6_000 {
        let mut bytes = POLICY.to_vec();
        // The categories are most of the file, and alike: half of the changes are elsewhere.
        let end = if turn % 2 == 0 { 6_000 } else { bytes.len() };
        for _ in 0..=random.u8(..3) {
            let place = if turn % 2 == 0 || random.bool() {
                random.usize(..end)
            } else {
                bytes.len() - 1 - random.usize(..9_000)
            };
            bytes[place] =
                if random.bool() { random.u8(..) } else { *random.choice(&[0, 1, 0xff, 0x80]).unwrap() };
        }
        if let Ok(policy) = Policy::read(&bytes) {
            read += 1;
            ask_everything(&policy);
        }
    }
    assert!(read > 100, "only {read} of the changed policies could be read at all");
}

#[test]
fn counts_that_cannot_be_true_take_no_memory() {
    let mut random = fastrand::Rng::with_seed(12);
    for _ in 0..2_000 {
        let mut bytes = POLICY.to_vec();
        let place = random.usize(..bytes.len() - 4) & !3;
        bytes[place..place + 4].copy_from_slice(&u32::to_le_bytes(
            *random.choice(&[0x7fff_ffff, 0xffff_ffff, 0x00ff_ffff]).unwrap(),
        ));
        if let Ok(policy) = Policy::read(&bytes) {
            ask_everything(&policy);
        }
    }
}
