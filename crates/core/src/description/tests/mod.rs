use super::*;
use proptest::prelude::*;

mod difference;
mod modbus;
mod schema;
mod secrets;

const GATEWAY: &str = r#"
[gateway]
name = "alderfen-1"
title = "Alderfen biogas works"

[rates]
fast = "500ms"
normal = "2s"

[[link]]
name = "process-bus"
protocol = "modbus-tcp"
host = "10.20.0.11"

[[device]]
name = "gas-analyser"
link = "process-bus"
unit = 3
points = "points/gas-analyser.csv"

[[uplink]]
name = "cloud"
kind = "sparkplug"
url = "mqtt://broker.example"
group = "alderfen"
node = "works-1"
"#;

const POINTS: &str = "\
name,address,type,order,scale,offset,unit,rate,report,deadband,access,low,high,title
ch4,input:0,uint16,,0.01,,%,normal,change,0.1,read,0,100,Methane in raw gas
flow,30011,float32,CDAB,,,m³/h,fast,change+every 10s,,,,,\"Raw gas, dry\"
purge,coil:2,,,,,,fast,,,read-write,,,
";

fn files(gateway: &str, points: &str) -> Files {
    [(MAIN_FILE, gateway), ("points/gas-analyser.csv", points)]
        .map(|(path, text)| (path.to_owned(), text.to_owned()))
        .into()
}

fn problems(gateway: &str, points: &str) -> Vec<String> {
    read(&files(gateway, points)).unwrap_err().iter().map(ToString::to_string).collect()
}

#[test]
fn the_example_reads_and_writes_back_to_the_same_description() {
    let description = read(&files(GATEWAY, POINTS)).unwrap();
    let points = &description.devices[0].points;
    assert_eq!(points[1].address.to_string(), "input:10");
    let PointProtocol::Modbus(own) = &*points[1].protocol else { panic!() };
    assert_eq!(own.order, crate::ByteOrder::Cdab);
    assert_eq!(points[2].settings.access, Access::ReadWrite);
    let written = write(&description);
    let again = read(&written).unwrap();
    assert_eq!(write(&again), written);
    assert!(written["points/gas-analyser.csv"].contains("flow,input:10,float32,CDAB,,,m³/h,fast,change+every 10s"));
    assert!(written[MAIN_FILE].contains("host = \"10.20.0.11\"\n\n"), "defaults are left out");
}

#[test]
fn every_mistake_is_told_at_once_with_its_place() {
    let gateway = GATEWAY
        .replace("normal = \"2s\"", "normal = \"0s\"")
        .replace("host = \"10.20.0.11\"", "hosst = \"10.20.0.11\"\nport = \"502\"")
        .replace("link = \"process-bus\"", "link = \"proces-bus\"")
        .replace("group = \"alderfen\"", "group = \"alder/fen\"")
        .replace("unit = 3", "unit = 300");
    assert_eq!(
        problems(&gateway, POINTS),
        [
            r#"gateway.toml:8:10: rates: normal is "0s"; expected a span of time from 1ms to 366d, such as "500ms", "2s" or "1h""#,
            r#"gateway.toml:10:1: link "process-bus": host is missing; expected host: Host name or IP address of the device"#,
            r#"gateway.toml:13:1: link "process-bus": hosst is no known key; expected host?"#,
            r#"gateway.toml:14:8: link "process-bus": port is "502"; expected a whole number"#,
            r#"gateway.toml:18:8: device "gas-analyser": there is no link "proces-bus"; expected "process-bus"?"#,
            r#"gateway.toml:19:8: device "gas-analyser": unit is 300; expected 255 or less"#,
            r#"gateway.toml:26:9: uplink "cloud": group is "alder/fen"; expected 1 to 64 characters without + # / and without outer spaces"#,
        ]
    );
}

#[test]
fn point_lists_are_checked_cell_by_cell() {
    let points = "\
name,address,type,order,scale,rate,report,access,low,high,colour
ch4,input:0,uint16,,0.01,normal,change,read,0,100,
CH4,input:1,uint16,,zero,normal,,,,,
a#b,input:2,uint17,,,normal,,,,,
co2,input:0,int16,,,norml,,,,,
h2s,holding:10,float32,ABDC,,normal,sometimes,,,,
o2,holding:65535,float32,,,normal,,,5,1,
level,holding:20,float32,,,normal,,,,,
low-half,holding:21,uint16,,,normal,,,,,
alarm,input:8,,,,normal,,,,,
pump,discrete:1,uint16,,,normal,,read-write,,,
";
    let told = problems(GATEWAY, points);
    let expected = [
        r#":1:59: "colour" is no known column; expected one of name, address, type, order, field, element, watch, arguments, auto, control, operate, pulse, pause, pulses, trip-index, feedback, class, device-deadband, variation, priority, trend-log, scale, offset, by-ratio, span, clamp, root, invert, enumeration, unit, rate, report, deadband, deadband-percent, min-interval, access, confirm, lifetime, safe-value, low, high, title, labels"#,
        r#":3:1: point "CH4": name "CH4" is taken but for its case; expected a name of its own"#,
        r#":3:21: point "CH4": scale is "zero"; expected a number"#,
        r##":4:1: point "a#b": name is "a#b"; expected 1 to 64 characters without + and #, with / only between two parts, and without outer spaces"##,
        r##":4:13: point "a#b": type is "uint17"; expected bool, int8, uint8, int16, uint16, int32, uint32, int64, uint64, bcd16, bcd32, bcd64, float16, float32, float64, string(N) or latin1(N) with N from 1 to 250; of nodes also datetime, uuid, bytes, int32[] and int32[2,3]"##,
        r#":5:21: point "co2": there is no rate "norml"; expected "normal"?"#,
        r#":6:24: point "h2s": order is "ABDC"; expected one of ABCD, CDAB, BADC, DCBA"#,
        r#":6:37: point "h2s": report is "sometimes"; expected change, every SPAN, change+every SPAN or never, with SPAN such as 10s"#,
        r#":7:4: point "o2": float32 at holding:65535 runs past address 65535; expected a lower address"#,
        r#":7:37: point "o2": low 5 is not below high 1; expected low < high"#,
        r#":10:15: point "alarm": type auto does not fit input:8; expected a type; Modbus registers do not say their own"#,
        r#":11:17: point "pump": type uint16 does not fit discrete:1; expected bool, or nothing"#,
        r#":11:34: point "pump": discrete:1 cannot be written; expected read, or an address in coil: or holding:"#,
    ];
    let expected: Vec<_> = expected.iter().map(|line| format!("points/gas-analyser.csv{line}")).collect();
    assert_eq!(told, expected);
}

#[test]
fn each_way_of_shaping_fits_one_kind_of_value() {
    let header = "name,address,type,scale,span,clamp,root,invert,enumeration,rate,high\n";
    let good = "\
temperature,holding:0,uint16,,0..27648 -> -50..150,true,,,,normal,
flow,holding:1,uint16,,0..27648 -> 0..400,,true,,,normal,
door,holding:2.3,,,,,,true,,normal,
mode,holding:3,uint16,,,,,,0=stopped;1=running,normal,
";
    let description = read(&files(GATEWAY, &format!("{header}{good}"))).unwrap();
    let written = write(&description);
    let list = &written["points/gas-analyser.csv"];
    assert!(
        list.starts_with("name,address,type,order,scale,offset,span,clamp,root,invert,enumeration,unit,"),
        "{list}"
    );
    assert!(list.contains("door,holding:2.3,,") && list.contains(",0=stopped;1=running,"), "{list}");
    assert_eq!(write(&read(&written).unwrap()), written);

    let told = problems(
        GATEWAY,
        &format!(
            "{header}\
a,holding:0,uint16,0.1,0..1 -> 0..9,,,,,normal,
b,holding:1,uint16,,,true,,,,normal,
c,holding:2,uint16,,,,,true,,normal,
d,holding:3,float32,,,,,,0=off;1=on,normal,
e,holding:5,uint16,,,,,,0=off;1=on,normal,7
f,coil:1,,,0..1 -> 0..9,,,,,normal,
g,holding:6,uint16,,0 to 10,yes,,,0=off;0=on,normal,
"
        ),
    );
    let expected = [
        r#":2:24: point "a": a span stands in place of scale and offset; expected one of the two"#,
        r#":3:22: point "b": clamp needs the ends of a span; expected two ends of the raw value and two of the engineering value, such as 0..27648 -> -50..150"#,
        r#":4:24: point "c": only a bit can be turned; expected type bool, or an address of a bit"#,
        r#":5:26: point "d": words are for whole numbers as the device says them; expected a whole-number type without scale, offset or span"#,
        r#":6:25: point "e": words have no deadband or limits; expected empty cells there"#,
        r#":7:12: point "f": a span is for numbers; expected a numeric type"#,
        r#":8:21: point "g": span is "0 to 10"; expected two ends of the raw value and two of the engineering value, such as 0..27648 -> -50..150"#,
        r#":8:29: point "g": clamp is "yes"; expected true or false"#,
        r#":8:35: point "g": enumeration is "0=off;0=on"; expected numbers with a word each, none of them twice, such as 0=stopped;1=running"#,
    ];
    let expected: Vec<_> = expected.iter().map(|line| format!("points/gas-analyser.csv{line}")).collect();
    assert_eq!(told, expected);
}

#[test]
fn files_that_are_no_description_are_told_so() {
    assert_eq!(
        read(&Files::new()).unwrap_err()[0].to_string(),
        "gateway.toml: the file is missing; expected a directory with a gateway.toml"
    );
    let told = problems("[gateway]\nname = \n[rates\nx = 1\n", "");
    assert!(told.len() >= 2 && told[0].starts_with("gateway.toml:2:"), "{told:?}");
    let told = problems("gateway = 1\n[[rates]]\n[link]\n[plc]\n", "");
    assert_eq!(told.len(), 5, "{told:?}");
    let told = problems(&GATEWAY.replace("gas-analyser.csv", "none.csv"), POINTS);
    assert!(told[0].contains(r#"there is no file "points/none.csv""#), "{told:?}");
    let told = problems(GATEWAY, "name,address,rate\nx,coil:1,normal,4,5\n");
    assert_eq!(
        told,
        [
            "points/gas-analyser.csv:2:17: the row has 5 cells, the header 3; expected as many; text with a comma stands in quotes"
        ]
    );
}

#[test]
fn two_uplinks_cannot_be_one_node() {
    let uplink = GATEWAY.split("[[uplink]]").nth(1).unwrap();
    let second = format!("{GATEWAY}\n[[uplink]]{}", uplink.replace("\"cloud\"", "\"cloud-2\""));
    let told = problems(&second, POINTS);
    assert_eq!(told.len(), 1, "{told:?}");
    assert!(told[0].contains("alderfen/works-1 is the node of uplink"), "{told:?}");
}

#[test]
fn certificates_go_with_tls_and_with_their_key() {
    let with = |url: &str, keys: &str| {
        let main = format!("{}\n{keys}", GATEWAY.replace("mqtt://broker.example", url));
        check_files(&files(&main, POINTS)).problems.iter().map(ToString::to_string).collect::<Vec<_>>()
    };
    let pem = "\"\"\"\n-----BEGIN CERTIFICATE-----\nMIIB\n-----END CERTIFICATE-----\n\"\"\"";
    let all = format!("ca = {pem}\ncertificate = {pem}\nkey = {}\n", pem.replace("CERTIFICATE", "PRIVATE KEY"));
    assert_eq!(with("mqtts://broker.example", &all), Vec::<String>::new());
    for (url, keys, why) in [
        ("mqtt://broker.example", format!("ca = {pem}"), "ca is of no use with mqtt://"),
        ("mqtts://broker.example", format!("certificate = {pem}"), "there is a certificate and no key"),
        ("mqtts://broker.example", "key = \"(stored)\"".to_owned(), "there is a key and no certificate"),
        ("mqtts://broker.example", format!("certificate = {pem}\nkey = \"heron\""), "key is no text in the form"),
        ("mqtts://broker.example", "ca = \"/etc/ca.pem\"".to_owned(), "-----BEGIN CERTIFICATE-----"),
        ("mqtt://broker.example", "user = \"works\"\npassword = \"heron\"".to_owned(), "for everyone to read"),
    ] {
        let told = with(url, &keys);
        assert!(told.len() == 1 && told[0].contains(why), "{why}: {told:?}");
    }
}

#[test]
fn fifty_thousand_clashing_points_are_told_in_reasonable_work() {
    let mut points = String::from("name,address,type,rate\n");
    for n in 0..50_000 {
        points.push_str(&format!("p{n},holding:{n},uint16,normal\n"));
    }
    assert_eq!(read(&files(GATEWAY, &points)).unwrap().devices[0].points.len(), 50_000);
}

proptest! {
    #[test]
    fn any_text_is_read_or_refused_and_never_panics(gateway in "\\PC{0,200}", points in "[a-z,:0-9\"\n.]{0,200}") {
        let _ = read(&files(&gateway, &points));
        let _ = read(&files(GATEWAY, &points));
    }

    #[test]
    fn written_point_lists_read_back_the_same(
        scale in -1e9_f64..1e9,
        offset: f64,
        unit in "[ -~]{0,8}",
        title in "[^\\pC]{0,20}",
        number in 0_u16..65532,
    ) {
        let mut description = read(&files(GATEWAY, POINTS)).unwrap();
        let mut point = (*description.devices[0].points[0]).clone();
        point.settings.scale = if scale == 0.0 { 1.0 } else { scale };
        point.settings.offset = if offset.is_finite() { offset } else { 0.0 };
        point.settings.unit = unit.trim().to_owned();
        point.settings.title = title.trim().into();
        point.address = Address::Modbus(ModbusAddress { table: ModbusTable::Input, number, bits: None });
        point.settings.address = point.address.to_string().into();
        point.shaping = point.settings.shaping(1.0).into();
        description.devices[0].points = [Arc::new(point)].into();
        prop_assert_eq!(read(&write(&description)).unwrap(), description);
    }
}

#[test]
fn what_would_surprise_is_a_warning_and_runs_all_the_same() {
    let gateway = GATEWAY.split("[[uplink]]").next().unwrap().to_owned()
        + "[[link]]\nname = \"spare\"\nprotocol = \"modbus-tcp\"\nhost = \"10.20.0.11\"\n";
    let mut files = files(&gateway, "name,address,type,rate,deadband,low,high\nx,input:0,uint16,normal,20,0,10\n");
    files.insert("points/old.csv".to_owned(), POINTS.to_owned());
    let checked = check_files(&files);
    assert!(checked.description.is_some());
    let told: Vec<_> = checked.problems.iter().map(ToString::to_string).collect();
    assert_eq!(
        told,
        [
            "gateway.toml:2:1: warning: gateway: there is no uplink; expected an [[uplink]]; without one nothing leaves the \
             gateway",
            "gateway.toml:21:1: warning: link \"spare\": no device is behind this link; expected a device, or no link",
            "gateway.toml:24:8: warning: link \"spare\": link \"process-bus\" leads to 10.20.0.11:502 too; expected one link \
             for all units behind one address: many devices take one connection only",
            "points/gas-analyser.csv:2:25: warning: point \"x\": a deadband of 20 is never left between 0 and 10; expected \
             less than high - low",
            "points/old.csv:2:1: warning: point \"ch4\": no device uses the list \"points/old.csv\"; expected a device with \
             it, or no such list",
        ]
    );
}

#[test]
fn drafts_are_checked_by_object_and_field_in_the_same_words() {
    let gateway = GATEWAY.replace("host = ", "port = 0\nhost = ").replace("normal = \"2s\"", "normal = \"0s\"");
    let files = files(&gateway, &POINTS.replace("ch4,input:0", "ch4,input:x"));
    let from_draft = check(&parse(&files).unwrap()).problems;
    let mut from_files = check_files(&files).problems;
    from_files.iter_mut().for_each(|problem| (problem.file, problem.line, problem.column) = (String::new(), 0, 0));
    from_files.sort();
    assert_eq!(from_draft, from_files);
    let places: Vec<_> = from_draft.iter().map(|p| (p.target.clone().unwrap(), p.field.as_str())).collect();
    assert!(places.contains(&(ObjectRef::new(ObjectClass::Link, "process-bus"), "port")), "{places:?}");
    assert!(places.contains(&(ObjectRef::new(ObjectClass::Rate, "normal"), "period")));
    assert!(places.contains(&(ObjectRef::point("points/gas-analyser.csv", "ch4"), "address")));
}

#[test]
fn a_device_without_a_list_has_the_one_that_is_called_after_it() {
    let description = read(&files(&GATEWAY.replace("points = \"points/gas-analyser.csv\"\n", ""), POINTS)).unwrap();
    assert_eq!(description.devices[0].settings.points, "points/gas-analyser.csv");
    let told = problems(&GATEWAY.replace("points/gas-analyser.csv", "../secret.csv"), POINTS);
    assert!(told[0].contains("expected a path beside gateway.toml"), "{told:?}");
}

#[test]
fn the_published_schema_takes_the_example_and_refuses_mistakes() {
    let validator = jsonschema::validator_for(&file_schema()).unwrap();
    let json = |text: &str| serde_json::to_value(text.parse::<toml::Table>().unwrap()).unwrap();
    assert!(validator.is_valid(&json(GATEWAY)));
    for (right, wrong) in [("500ms", "0s"), ("unit = 3", "unit = 300"), ("mqtt://", "http://"), ("host =", "hots =")] {
        assert!(!validator.is_valid(&json(&GATEWAY.replace(right, wrong))), "{wrong}");
    }
}

#[test]
fn canonical_files_do_not_depend_on_how_they_were_written() {
    let by_hand =
        GATEWAY.replace("fast = \"500ms\"", "fast='500ms'  # quick").replace("unit = 3", "max-gap = 0\nunit = 0x3");
    let canonical = |gateway: &str| parse(&files(gateway, POINTS)).unwrap().canonical().to_files();
    assert_eq!(canonical(&by_hand), canonical(GATEWAY));
    assert_eq!(canonical(GATEWAY), write(&read(&files(GATEWAY, POINTS)).unwrap()));
}

#[test]
fn files_written_by_hand_keep_their_comments_when_they_are_brought_up_to_date() {
    let by_hand = GATEWAY
        .replace("[rates]", "# How often to look.\n[rates]")
        .replace("fast = \"500ms\"", "fast   = \"500ms\"  # as fast as the bus allows")
        .replace("normal = \"2s\"", "normal = \"2000ms\"")
        .replace("unit = 3", "unit = 0x3   # see the nameplate");
    let existing = files(&by_hand, POINTS);
    let mut after = parse(&existing).unwrap().canonical();
    assert_eq!(update(&existing, &after).unwrap(), existing, "what means the same stays as it is");

    after.rates.insert("fast".to_owned(), "250ms".into());
    after.devices[0]["unit"] = 4.into();
    after.devices[0]["max-gap"] = 2.into();
    after.links.push(serde_json::json!({ "name": "meters", "protocol": "modbus-tcp", "host": "10.20.0.12" }));
    after.uplinks.clear();
    let updated = update(&existing, &after).unwrap();
    let main = &updated[MAIN_FILE];
    for kept in [
        "# How often to look.",
        "fast   = \"250ms\"  # as fast as the bus allows",
        "normal = \"2000ms\"",
        "unit = 4   # see the nameplate",
        "max-gap = 2",
    ] {
        assert!(main.contains(kept), "{kept} in\n{main}");
    }
    assert!(!main.contains("[[uplink]]"));
    assert_eq!(updated["points/gas-analyser.csv"], POINTS, "a list that stays is not touched");
    assert_eq!(parse(&updated).unwrap().canonical(), after.clone().canonical());
    let row = &mut Arc::make_mut(after.lists.get_mut("points/gas-analyser.csv").unwrap())[0];
    *row = row.cells().chain([("title", Cell::Text("CH4"))]).collect();
    assert!(update(&existing, &after).unwrap()["points/gas-analyser.csv"].contains("CH4"));
}
