//! A ninth server, said from the reference page alone: settings in XML, content in numbered folders, a load list in YAML.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)] // a test may stop where it fails

mod club;

use std::fs;
use std::io::Write as _;

use club::{Club, differ};

const FAMILY: &str = r#"
format = 1
name = "quillon"
title = "Quillon Dock"
own = ["dock.xml", "load.yaml", "saves/**"]

[[recognise]]
path = "dock.xml"
holds = "<dock"
sure = 100

[fact.game]
file = "dock.xml"
format = "xml"
at = "dock.@release"

[fact.opening]
file = "dock.xml"
format = "xml"
at = "dock.opening.@ship"

[kind.ship]
role = "map"
title = "ship"
holds = ["hull.dat"]
players = "need"
place = [{ take = "**", to = "yard/{berth:04}/{path}" }]

[kind.ship.manifest]
inside = "papers.xml"
format = "xml"
id = "ship.@mark"
version = "ship.@edition"
title = "ship.@name"
game = "ship.@for"
needs = { at = "ship.wants", shape = "objects", id = "@mark", range = "@from", bare = "least" }

[[kind.ship.wire]]
file = "load.yaml"
format = "yaml"
at = "load"
list = true
by = "folder"
value = { folder = "{berth:04}", mark = "{id}" }

[active]
kinds = ["ship"]
name = "{title}"
now = "opening"

[[active.set]]
file = "dock.xml"
format = "xml"
at = "dock.opening.@ship"
value = "{title}"

[[bound]]
file = "dock.xml"
format = "xml"
at = "dock.berths.@max"
of = ["yard/{folder}/hull.dat"]
measure = "count"
why = "ships do not float"

[kind.ship.field.berth]
free = "yard/{berth}/**"
"#;

fn ship(club: &Club, name: &str, papers: &str) {
    let mut zip = zip::ZipWriter::new(fs::File::create(club.dir.path().join(name)).unwrap());
    for (path, text) in [("ship/hull.dat", "hull"), ("ship/papers.xml", papers)] {
        zip.start_file(path, zip::write::SimpleFileOptions::default()).unwrap();
        zip.write_all(text.as_bytes()).unwrap();
    }
    zip.finish().unwrap();
}

#[test]
fn numbered_folders_xml_and_a_yaml_list() {
    let club = Club::empty_of("capstan");
    fs::create_dir_all(club.home().join("families")).unwrap();
    fs::write(club.home().join("families/quillon.family.toml"), FAMILY).unwrap();
    let dock =
        "<!-- our dock -->\n<dock release=\"2.3\">\n  <berths max=\"1\"/>\n  <opening ship=\"Old Tug\"/>\n</dock>\n";
    let load = "load:\n  - folder: \"0002\"   # the first we had\n    mark: old-tug\n";
    club.write("dock.xml", dock);
    club.write("load.yaml", load);
    club.write("yard/0002/hull.dat", "old");
    club.write("yard/0002/papers.xml", "<ship name=\"Old Tug\" mark=\"old-tug\" edition=\"1\"/>");
    let twin = club.tree();
    let ran = club.ok("adopt");
    assert!(ran.text.contains("old-tug  1        ship  manifest  yard/0002/hull.dat"), "{}", ran.text);
    // one need alone is no list in XML, and a bare version means that one or a newer one
    ship(
        &club,
        "hen.zip",
        "<ship name=\"Red Hen\" mark=\"red-hen\" edition=\"1.4\" for=\"2.3\"><wants mark=\"winch\" from=\"1.0\"/></ship>",
    );
    ship(&club, "winch.zip", "<ship name=\"Winch\" mark=\"winch\" edition=\"1.2\"/>");
    club.ok("want ../winch.zip ../hen.zip --quiet");
    club.ok("settle --yes --quiet");
    assert!(club.path("yard/0001/hull.dat").is_file() && club.path("yard/0003/hull.dat").is_file());
    let list = club.read("load.yaml");
    assert!(list.starts_with(load) && list.contains("folder: \"0001\"\n    mark: winch"), "{list}");
    assert!(club.read("dock.xml").contains("<berths max=\"3\"/>"), "{}", club.read("dock.xml"));
    club.write("roster.toml", format!("{}\n[maps]\nplay = \"Red Hen\"\n", club.read("roster.toml")));
    club.ok("settle --yes --quiet");
    assert!(club.read("dock.xml").contains("<opening ship=\"Red Hen\"/>"), "{}", club.read("dock.xml"));
    assert_eq!(club.run("check").code, 0, "{}", club.run("check").text);
    // a number is kept by a new version, and given again when it is free
    ship(&club, "hen.zip", "<ship name=\"Red Hen\" mark=\"red-hen\" edition=\"1.5\"/>");
    club.ok("want ../hen.zip --quiet");
    club.ok("drop winch --quiet");
    club.ok("settle --yes --quiet");
    assert!(club.read("yard/0003/papers.xml").contains("1.5") && !club.path("yard/0001").exists());
    club.ok("want ../winch.zip --quiet");
    club.ok("settle --yes --quiet");
    assert!(club.path("yard/0001/hull.dat").is_file());
    club.ok("drop winch red-hen --quiet");
    club.ok("settle --yes --quiet");
    let mut left = club.tree();
    left.remove("roster.toml");
    assert_eq!(differ(&twin, &left), Vec::<String>::new());
}
