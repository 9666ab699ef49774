//! How much is looked at of inputs of which not everything is read.

use mivask_disk::process::Reach;

/// The paths that sentences speak of, as far as they read.
pub(crate) fn reach_of(sentences: &[String]) -> Reach {
    let acts = sentences.iter().filter_map(|text| mivask_core::act::parse_act(text).ok());
    let paths = acts.flat_map(|act| {
        let second = act.verb.second_path().map(<[u8]>::to_vec);
        std::iter::once(act.path).chain(second)
    });
    Reach { paths: paths.collect(), whole: false }
}

/// `reach` with the paths that changes speak of, for inputs of which not everything is read.
pub(crate) fn with_changes(reach: &Reach, sentences: &[String]) -> Reach {
    let more = reach_of(sentences);
    let pattern = more.paths.iter().any(|path| path.contains(&b'*'));
    Reach { paths: reach.paths.iter().cloned().chain(more.paths).collect(), whole: reach.whole || pattern }
}
