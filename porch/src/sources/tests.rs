//! What a source is, by how it is written.

use super::*;

/// A folder with these files.
fn folder(files: &[(&str, &[u8])]) -> tempfile::TempDir {
    let folder = tempfile::tempdir().unwrap();
    for (name, content) in files {
        let path = folder.path().join(name);
        std::fs::create_dir_all(path.parent().unwrap()).unwrap();
        std::fs::write(path, content).unwrap();
    }
    folder
}

fn names(files: &Files) -> Vec<&str> {
    files.keys().map(String::as_str).collect()
}

async fn read(path: &Path, main: Option<&str>) -> Result<Source, CliError> {
    source(&Origin {
        text: path.to_str().unwrap(),
        main,
        reading: &Reading::default(),
        allow_local: false,
    })
    .await
}

#[test]
fn documents_are_read_and_everything_else_is_left_alone() {
    let place = folder(&[
        ("a.facade.yaml", b"name: a"),
        ("below/deep/b.wsdl", b"<x/>"),
        ("below/c.XSD", b"<y/>"),
        ("notes.txt", b"not ours"),
        ("picture.png", b"\x89PNG\xff\xfe"),
        (".hidden.yaml", b"secret: 1"),
        (".git/config.yaml", b"secret: 2"),
    ]);
    let files = read_paths(&[place.path().to_path_buf()]).unwrap();
    assert_eq!(
        names(&files),
        ["a.facade.yaml", "below/c.XSD", "below/deep/b.wsdl"]
    );
    assert_eq!(files["a.facade.yaml"], "name: a");
    // A file that is named is taken, whatever it is called, by its own name.
    let one = read_paths(&[place.path().join("notes.txt")]).unwrap();
    assert_eq!(names(&one), ["notes.txt"]);
    let both = [
        place.path().join("below"),
        place.path().join("a.facade.yaml"),
    ];
    assert_eq!(
        names(&read_paths(&both).unwrap()),
        ["a.facade.yaml", "c.XSD", "deep/b.wsdl"]
    );
}

#[test]
fn links_that_lead_in_a_circle_end() {
    let place = folder(&[("a/b.yaml", b"x: 1")]);
    std::os::unix::fs::symlink(place.path(), place.path().join("a/back")).unwrap();
    std::os::unix::fs::symlink("nowhere", place.path().join("dangling.yaml")).unwrap();
    let there = read_paths(&[place.path().join("a")]).unwrap();
    assert_eq!(names(&there), ["b.yaml"]);
    assert!(read_paths(&[place.path().to_path_buf()]).is_err());
}

#[test]
fn a_file_in_another_encoding_is_read_and_one_in_none_is_told_by_name() {
    let utf16: Vec<u8> = [0xff, 0xfe]
        .into_iter()
        .chain("<a>\u{e4}</a>".encode_utf16().flat_map(u16::to_le_bytes))
        .collect();
    let place = folder(&[("a.wsdl", &utf16), ("b/bad.yaml", b"a: \xff\xfe\xfd")]);
    let files = read_paths(&[place.path().join("a.wsdl")]).unwrap();
    assert_eq!(files["a.wsdl"], "<a>\u{e4}</a>");
    let wrong = read_paths(&[place.path().to_path_buf()])
        .unwrap_err()
        .to_string();
    assert!(wrong.contains("bad.yaml"), "{wrong}");
    let gone = read_paths(&[place.path().join("gone.yaml")])
        .unwrap_err()
        .to_string();
    assert!(gone.contains("gone.yaml"), "{gone}");
}

const PROTO: &[u8] = b"syntax = \"proto3\"; package a; import \"lib/b.proto\"; service S { rpc G(lib.B) returns (lib.B); }";
const IMPORTED: &[u8] = b"syntax = \"proto3\"; package lib; message B { string x = 1; }";

#[tokio::test]
async fn a_proto_file_brings_along_what_it_imports() {
    let place = folder(&[
        ("api/v1/a.proto", PROTO),
        ("api/lib/b.proto", IMPORTED),
        ("api/lib/other.proto", b"syntax = \"proto3\";"),
    ]);
    let found = read(&place.path().join("api/v1/a.proto"), None)
        .await
        .unwrap();
    assert_eq!(found.main, "v1/a.proto");
    assert_eq!(names(&found.files), ["lib/b.proto", "v1/a.proto"]);
}

#[tokio::test]
async fn a_definition_brings_along_the_schemas_that_it_names_above_and_below() {
    let wsdl = b"<d:definitions xmlns:d='http://schemas.xmlsoap.org/wsdl/'><d:types><s:schema xmlns:s='http://www.w3.org/2001/XMLSchema'><s:include schemaLocation='../shared/a.xsd'/></s:schema></d:types></d:definitions>";
    let xsd = b"<s:schema xmlns:s='http://www.w3.org/2001/XMLSchema'/>";
    let place = folder(&[
        ("desk/desk.wsdl", wsdl),
        ("shared/a.xsd", xsd),
        ("shared/b.txt", b"x"),
    ]);
    let found = read(&place.path().join("desk/desk.wsdl"), None)
        .await
        .unwrap();
    assert_eq!(found.main, "desk/desk.wsdl");
    assert!(
        found.files.contains_key("shared/a.xsd"),
        "{:?}",
        names(&found.files)
    );
}

#[tokio::test]
async fn what_is_not_there_or_no_definition_says_so() {
    let place = folder(&[("empty/readme.md", b"# nothing")]);
    let gone = read(&place.path().join("gone"), None)
        .await
        .err()
        .unwrap()
        .to_string();
    assert!(gone.contains("there is no file or folder"), "{gone}");
    let none = read(&place.path().join("empty"), None).await;
    let text = read(&place.path().join("empty/readme.md"), None).await;
    for source in [none, text].into_iter().flatten() {
        let wrong = porch_facade::look(&source).err();
        assert!(wrong.is_some(), "{:?}", source.files);
    }
}
