//! What changed is read, checked and compared, and nothing else.

use super::*;

fn served(library: &Arc<Library>) -> Arc<porch_facade::Checked> {
    let secrets = HashMap::from([
        ("reservations-user".to_owned(), "quay-desk".to_owned()),
        ("reservations-password".to_owned(), "tide".to_owned()),
    ]);
    let model = Model::read(Arc::new(demo()), "live", library);
    model
        .compile("sailings", &Secrets::Known(&secrets))
        .unwrap()
}

#[test]
fn what_is_served_is_not_compiled_again_to_be_checked() {
    let library = Arc::new(Library::default());
    let served = served(&library);
    let mut files = demo();
    let text = files.get_mut("timetable/timetable.facade.yaml").unwrap();
    *text = text.replace("title: Timetable", "title: Times");
    let model = Model::read(Arc::new(files), "live", &library);
    assert_eq!(model.findings(), []);
    assert!(Arc::ptr_eq(&model.found("sailings").unwrap(), &served));
    // Whoever looks into it gets one without the secrets' values.
    let shown = model.facade("sailings").unwrap();
    assert!(!Arc::ptr_eq(&shown, &served));
    assert!(format!("{served:?}").contains("dGlkZQ") || format!("{served:?}").contains("tide"));
    assert!(!format!("{shown:?}").contains("tide"));
    // A change of its own is found.
    let mut files = demo();
    let text = files.get_mut("sailings/sailings.facade.yaml").unwrap();
    *text = text.replace("=path.fareClass", "=path.fareclas");
    let broken = Model::read(Arc::new(files), "live", &library);
    assert!(has_errors(broken.findings()), "{:?}", broken.findings());
}

/// Contracts are read as contracts alone; whatever else there is, is looked into as before.
#[test]
fn files_that_do_not_say_what_they_are_are_looked_into() {
    let library = Arc::new(Library::default());
    let with = |file: &str, text: &str| {
        let mut files = demo();
        files.insert(file.to_owned(), text.to_owned());
        Model::read(Arc::new(files), "live", &library)
    };
    for _ in 0..2 {
        let lost = with("notes/lost.yaml", "a: [1\nb: 2");
        assert_eq!(lost.findings().len(), 1, "{:?}", lost.findings());
        assert_eq!(lost.findings()[0].file, "notes/lost.yaml");
        let broken = with("sailings/sailings.openapi.yaml", "openapi: 3.1.0\npaths: [");
        let of = |f: &&Finding| f.file == "sailings/sailings.openapi.yaml";
        assert_eq!(broken.findings().iter().filter(of).count(), 1);
        let plain = with("notes/plain.json", r#"{"name":"sailings"}"#);
        assert_eq!(plain.findings(), []);
        // JSON may write any letter by its number (RFC 8259 §7).
        let escaped = r#"{"elm\u002dporch":"environment/1","name":"night"}"#;
        let escaped = with("night.environment.json", escaped);
        assert!(escaped.documents.environments.contains_key("night"));
    }
}

#[test]
fn a_contract_is_read_once_for_all_that_have_it() {
    let library = Arc::new(Library::default());
    let files = demo();
    let model = Model::read(Arc::new(files.clone()), "live", &library);
    let bundle = model.bundle("sailings").unwrap();
    let draft = model.shared_contract("sailings").unwrap();
    let (facade, released) = library.released(&bundle).unwrap();
    assert_eq!(facade.doc.name, "sailings");
    assert!(Arc::ptr_eq(&draft, &released));
}
