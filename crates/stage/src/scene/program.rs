//! The program that a container starts, as its description and its image name it.

use mivask_model::fact::Fact;

/// Where programs are looked for when no one says (`DefaultPathEnv` of the engines).
pub const USUAL_SEARCH: &[u8] = b"/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin";

/// What a container or an image starts; of every list of words only the first, which names the program.
///
/// An empty word is an empty list: it takes away what the image says.
#[derive(Clone, PartialEq, Eq, Debug, Default)]
pub struct Program {
    /// `ENTRYPOINT`; `command` of a Kubernetes container, `entrypoint` of a Compose service, `process.args` of a bundle.
    pub entrypoint: Option<Fact<Vec<u8>>>,
    /// `CMD`; `args` of a Kubernetes container, `command` of a Compose service.
    pub command: Option<Fact<Vec<u8>>>,
    /// `PATH` of its environment.
    pub search: Option<Fact<Vec<u8>>>,
}

impl Program {
    /// What `words` start with.
    pub fn first<T: AsRef<[u8]>>(words: &[T]) -> Vec<u8> {
        words.first().map_or_else(Vec::new, |word| word.as_ref().to_vec())
    }

    /// The word that names the program of a container that says `self` and runs an image that says `image`; `None` where no one
    /// says.
    ///
    /// Whoever gives an entrypoint drops both of the image's (OCI image specification, config.md; Compose specification,
    /// `entrypoint`).
    #[must_use]
    pub fn named<'a>(&'a self, image: Option<&'a Self>) -> Option<&'a Fact<Vec<u8>>> {
        let given = |word: &'a Option<Fact<Vec<u8>>>| word.as_ref().filter(|word| !word.value.is_empty());
        if self.entrypoint.is_some() {
            return given(&self.entrypoint).or_else(|| given(&self.command));
        }
        let image = image?;
        given(&image.entrypoint).or_else(|| given(&self.command)).or_else(|| given(&image.command))
    }

    /// This one with what `base` says where it says nothing; an entrypoint of its own drops the command of `base`.
    #[must_use]
    pub fn over(self, base: Self) -> Self {
        let inherited = if self.entrypoint.is_some() { None } else { base.command };
        Self {
            entrypoint: self.entrypoint.or(base.entrypoint),
            command: self.command.or(inherited),
            search: self.search.or(base.search),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use mivask_model::fact::Provenance;

    fn program(entrypoint: Option<&str>, command: Option<&str>) -> Program {
        let fact = |text: Option<&str>| {
            text.map(|text| Fact::new(text.as_bytes().to_vec(), Provenance::rule("a test")))
        };
        Program { entrypoint: fact(entrypoint), command: fact(command), search: None }
    }

    macro_rules! named {
        ($($name:ident: ($($own:expr),*) ($($image:expr),*) => $expected:expr;)+) => {$(
            #[test]
            fn $name() {
                let image = program($($image),*);
                let own = program($($own),*);
                let named = own.named(Some(&image)).map(|word| word.value.as_slice());
                assert_eq!(named, $expected.map(str::as_bytes));
            }
        )+};
    }

    named! {
        the_image_alone: (None, None) (Some("/e"), Some("c")) => Some("/e");
        a_command_is_an_argument_of_the_images_entrypoint: (None, Some("x")) (Some("/e"), Some("c")) => Some("/e");
        a_command_replaces_the_images: (None, Some("x")) (None, Some("c")) => Some("x");
        an_entrypoint_wins: (Some("/x"), None) (Some("/e"), Some("c")) => Some("/x");
        no_entrypoint_drops_the_images_command_too: (Some(""), None) (Some("/e"), Some("c")) => None::<&str>;
        no_entrypoint_and_a_command: (Some(""), Some("x")) (Some("/e"), Some("c")) => Some("x");
    }

    #[test]
    fn an_image_that_is_not_given_may_have_an_entrypoint() {
        assert_eq!(program(None, Some("x")).named(None), None);
    }
}
