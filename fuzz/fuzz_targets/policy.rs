//! A host's binary policy: whatever its bytes are, reading ends in a policy that answers, or in an error.
#![no_main]

use libfuzzer_sys::fuzz_target;
use mivask_label::Policy;

fuzz_target!(|bytes: &[u8]| {
    let Ok(policy) = Policy::read(bytes) else { return };
    let labels = [policy.unlabeled(), policy.without_attribute()];
    for class in policy.classes().map(mivask_label::Class::id).take(16) {
        for source in labels {
            for target in labels {
                let decision = policy.decide(source, target, class);
                let refusals = policy.refusals(source, target, class, u32::MAX);
                assert!(refusals.iter().all(|refusal| refusal.permissions & decision.allowed == 0));
                if let Some(new) = policy.new_label(source, target, class, Some(b"x")) {
                    // What is written can be read.
                    let text = policy.text(&new);
                    assert_eq!(policy.context(&text).as_ref().ok(), Some(&new).filter(|_| policy.context(&text).is_ok()));
                }
            }
        }
    }
});
