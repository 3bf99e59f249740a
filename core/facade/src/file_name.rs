//! Names that files of the draft may have, for everybody who writes them somewhere.

/// Whether a name can be a file of the draft: a relative path with `/` between folders, that leads nowhere else and hides
/// from nobody. No part begins with a dot: tools take files like those for their own settings.
pub fn is_file_name(name: &str) -> bool {
    let part_fits = |part: &str| !part.is_empty() && !part.starts_with('.') && part.trim() == part;
    name.len() < 300
        && !name.contains(['\\', ':'])
        && !name.chars().any(char::is_control)
        && name.split('/').count() <= 20
        && name.split('/').all(part_fits)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_that_lead_elsewhere_or_hide_are_none() {
        for good in [
            "a.yaml",
            "sailings/sailings.facade.yaml",
            "vessels/vessels-definition/skerry/fleet/v1/fleet.proto",
            "a b/c (2).wsdl",
            "Ö/..b/c..",
        ] {
            assert_eq!(is_file_name(good), !good.contains("..b"), "{good}");
        }
        for bad in [
            "",
            "/etc/passwd",
            "../a",
            "a/../b",
            "a/./b",
            "a//b",
            "a/",
            ".git/config",
            "a/.ssh/authorized_keys",
            ".env",
            "C:\\a",
            "C:/a",
            "a\\..\\b",
            "a\0b",
            "a\nb",
            "a\u{1b}[2Jb",
            " a",
            "a /b",
            "a/b ",
        ] {
            assert!(!is_file_name(bad), "{bad:?}");
        }
        assert!(!is_file_name(&"x".repeat(300)));
        assert!(!is_file_name(&vec!["d"; 21].join("/")));
    }
}
