//! Files of the draft on this machine's disk: written below the folder that was named, and nowhere else.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

/// Writes one file of the draft; its path as people are told it.
///
/// The draft is what colleagues pushed: a name that leads out of the folder, or through a link, is refused.
pub(crate) fn write_below(folder: &Path, name: &str, content: &str) -> io::Result<PathBuf> {
    if !porch_facade::is_file_name(name) {
        return Err(refused("is no name for a file of the draft"));
    }
    let mut path = folder.to_path_buf();
    let mut parts = name.split('/').peekable();
    while let Some(part) = parts.next() {
        path.push(part);
        let last = parts.peek().is_none();
        match fs::symlink_metadata(&path) {
            Ok(there) if there.is_symlink() => {
                return Err(refused("is a link, and links are not followed"));
            }
            Ok(there) if !last && !there.is_dir() => return Err(refused("is no folder")),
            Ok(there) if last && there.is_dir() => return Err(refused("is a folder")),
            Ok(_) => {}
            Err(e) if e.kind() == io::ErrorKind::NotFound => {
                if !last {
                    fs::create_dir_all(&path)?;
                }
            }
            Err(e) => return Err(e),
        }
    }
    fs::create_dir_all(folder)?;
    fs::write(&path, content)?;
    Ok(path)
}

fn refused(why: &str) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidInput, why)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn folder() -> tempfile::TempDir {
        tempfile::tempdir().unwrap()
    }

    #[test]
    fn files_are_written_with_their_folders_and_written_over() {
        let folder = folder();
        let below = folder.path().join("new/place");
        let path = write_below(&below, "a/b/c.yaml", "1").unwrap();
        assert_eq!(path, below.join("a/b/c.yaml"));
        assert_eq!(fs::read_to_string(&path).unwrap(), "1");
        write_below(&below, "a/b/c.yaml", "2").unwrap();
        assert_eq!(fs::read_to_string(&path).unwrap(), "2");
        write_below(&below, "top.yaml", "3").unwrap();
        assert_eq!(fs::read_to_string(below.join("top.yaml")).unwrap(), "3");
    }

    #[test]
    fn nothing_is_written_outside_or_through_a_link() {
        let (folder, outside) = (folder(), folder());
        let target = outside.path().join("secret");
        fs::write(&target, "untouched").unwrap();
        std::os::unix::fs::symlink(outside.path(), folder.path().join("out")).unwrap();
        std::os::unix::fs::symlink(&target, folder.path().join("file.yaml")).unwrap();
        std::os::unix::fs::symlink(outside.path().join("new"), folder.path().join("dangling"))
            .unwrap();
        for name in [
            "out/secret",
            "out/new.yaml",
            "file.yaml",
            "dangling",
            "dangling/x.yaml",
            "../secret",
            "/tmp/secret",
            ".git/config",
            "a/../../secret",
        ] {
            let wrong = write_below(folder.path(), name, "stolen").unwrap_err();
            assert_eq!(wrong.kind(), io::ErrorKind::InvalidInput, "{name}: {wrong}");
        }
        assert_eq!(fs::read_to_string(&target).unwrap(), "untouched");
        let left: Vec<_> = fs::read_dir(outside.path()).unwrap().collect();
        assert_eq!(left.len(), 1);
    }

    #[test]
    fn a_file_where_a_folder_should_be_is_told() {
        let folder = folder();
        write_below(folder.path(), "a", "1").unwrap();
        assert!(write_below(folder.path(), "a/b.yaml", "2").is_err());
        write_below(folder.path(), "d/x", "1").unwrap();
        assert!(write_below(folder.path(), "d", "2").is_err());
        assert_eq!(fs::read_to_string(folder.path().join("a")).unwrap(), "1");
    }
}
