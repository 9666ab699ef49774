//! Texts within build files that are input of commands: `RUN cat <<END > /file`.

/// `text` with blanks in place of the texts that commands of a `RUN` read, which the parser takes for instructions; every byte stays
/// where it is. A `RUN` that begins with a text is a script, and is left to the parser.
pub(super) fn without_input(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    let mut lines = text.split_inclusive('\n');
    let mut goes_on = false;
    while let Some(line) = lines.next() {
        out.push_str(line);
        let trimmed = line.trim();
        let keyword = trimmed.get(..3).is_some_and(|word| word.eq_ignore_ascii_case("run"));
        let begins = keyword && trimmed[3..].starts_with([' ', '\t']);
        let runs = goes_on || begins && !trimmed[3..].trim_start().starts_with("<<");
        goes_on = runs && trimmed.ends_with('\\');
        if !runs {
            continue;
        }
        for (end, strip) in ends(trimmed) {
            let rest = lines.clone();
            let closes = |line: &&str| {
                let line = line.trim_end_matches(['\n', '\r']);
                (if strip { line.trim_start_matches('\t') } else { line }) == end
            };
            // A text without an end is for the parser to complain about.
            let Some(count) = rest.clone().position(|line| closes(&line)) else { break };
            for line in lines.by_ref().take(count + 1) {
                out.extend(line.bytes().map(|byte| if byte == b'\n' { '\n' } else { ' ' }));
            }
        }
    }
    out
}

/// The lines that end the texts a line announces, and whether tabs before them count for nothing.
fn ends(line: &str) -> Vec<(String, bool)> {
    let mut found = Vec::new();
    let mut rest = line;
    while let Some(at) = rest.find("<<") {
        rest = &rest[at + 2..];
        if let Some(behind) = rest.strip_prefix('<') {
            rest = behind;
            continue;
        }
        let (word, strip) = rest.strip_prefix('-').map_or((rest, false), |word| (word, true));
        let word = word.trim_start_matches([' ', '\t']);
        let quote = word.chars().next().filter(|c| matches!(c, '\'' | '"'));
        let end = match quote {
            Some(quote) => word[1..].split(quote).next().unwrap_or_default(),
            None => {
                word.split(|c: char| c.is_whitespace() || ";&|<>()".contains(c)).next().unwrap_or_default()
            }
        };
        if !end.is_empty() {
            found.push((end.to_owned(), strip));
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use super::without_input;

    #[test]
    fn texts_turn_blank_and_nothing_moves() {
        for (given, left) in [
            ("RUN cat <<E > /f\nUSER x\nE\nUSER y\n", "RUN cat <<E > /f\n      \n \nUSER y\n"),
            ("RUN a && \\\n cat <<-'E' > /f\n\tü\n\tE\n", "RUN a && \\\n cat <<-'E' > /f\n   \n  \n"),
            ("RUN <<E\nmkdir /a\nE\n", "RUN <<E\nmkdir /a\nE\n"),
            ("COPY <<E /f\nx\nE\n", "COPY <<E /f\nx\nE\n"),
            ("RUN cat <<E\nno end\n", "RUN cat <<E\nno end\n"),
            ("RUN echo $((1<<2))\nUSER x\n", "RUN echo $((1<<2))\nUSER x\n"),
        ] {
            assert_eq!(without_input(given), left);
            assert_eq!(without_input(given).len(), given.len());
        }
    }
}
