use super::*;

fn draft(gateway: &str, points: &str) -> Draft {
    Draft::from(&read(&files(gateway, points)).unwrap())
}

fn two_links() -> String {
    format!(
        "{GATEWAY}\n[[link]]\nname = \"meters\"\nprotocol = \"modbus-tcp\"\nhost = \"10.20.0.12\"\n[[device]]\nname = \
         \"meter\"\nlink = \"meters\"\nunit = 1\npoints = \"points/meter.csv\"\n"
    )
}

fn fates(parts: &[PartChange]) -> Vec<(&str, PartFate)> {
    parts.iter().map(|part| (part.name.as_str(), part.fate)).collect()
}

const METER: &str = "name,address,type,unit,rate\npower,input:0,float32,kW,fast\n";

fn with_meter(gateway: &str, points: &str, meter: &str) -> Description {
    let mut files = files(gateway, points);
    files.insert("points/meter.csv".to_owned(), meter.to_owned());
    read(&files).unwrap()
}

#[test]
fn only_what_a_change_concerns_is_touched() {
    let before = with_meter(&two_links(), POINTS, METER);
    let cases: [(&str, &str, PartFate, PartFate, &str); 6] = [
        ("timeout = \"1s\"", METER, PartFate::Restarted, PartFate::Untouched, "link meters: timeout 1s → 2s"),
        ("", "float64", PartFate::Changed, PartFate::Reborn, "point power of meter: type float32 → float64"),
        ("", "deadband", PartFate::Changed, PartFate::Untouched, "point power of meter: deadband 0 → 0.5 kW"),
        ("", "MW", PartFate::Untouched, PartFate::Reborn, "point power of meter: unit kW → MW"),
        ("", "added", PartFate::Changed, PartFate::Reborn, "point hours of meter added: input:8 uint32 h"),
        ("user", METER, PartFate::Untouched, PartFate::Restarted, "uplink cloud: user none → works"),
    ];
    for (gateway, points, link, uplink, words) in cases {
        let gateway = match gateway {
            "user" => two_links().replace("node = \"works-1\"", "node = \"works-1\"\nuser = \"works\""),
            "" => two_links(),
            _ => two_links().replace("10.20.0.12\"", "10.20.0.12\"\ntimeout = \"2s\""),
        };
        let points = match points {
            "float64" => METER.replace("float32", "float64"),
            "MW" => METER.replace("kW", "MW"),
            "deadband" => METER.replace("rate\n", "rate,deadband\n").replace("fast", "fast,0.5"),
            "added" => format!("{METER}hours,input:8,uint32,h,fast\n"),
            same => same.to_owned(),
        };
        let after = with_meter(&gateway, POINTS, &points);
        let told = difference(Some(&Draft::from(&before)), &Draft::from(&after));
        assert_eq!(fates(&told.links), [("process-bus", PartFate::Untouched), ("meters", link)], "{words}");
        assert_eq!(fates(&told.uplinks), [("cloud", uplink)], "{words}");
        assert_eq!(told.objects.iter().map(|object| object.words.as_str()).collect::<Vec<_>>(), [words]);
        // What the words promise is what the gateway will do.
        assert!(before.runs_the_same(&after, "process-bus"));
        assert_eq!(before.runs_the_same(&after, "meters"), link == PartFate::Untouched, "{words}");
    }
}

#[test]
fn a_rate_touches_the_links_that_use_it() {
    let before = with_meter(&two_links(), POINTS, METER);
    let after = with_meter(&two_links().replace("normal = \"2s\"", "normal = \"5s\""), POINTS, METER);
    let told = difference(Some(&Draft::from(&before)), &Draft::from(&after));
    assert_eq!(fates(&told.links), [("process-bus", PartFate::Changed), ("meters", PartFate::Untouched)]);
    assert_eq!(
        told.to_string(),
        "link process-bus stays connected, changed for rate normal\nlink meters goes on untouched\nuplink cloud goes on untouched\n\n~ \
         rate normal: period 2s → 5s\n"
    );
    assert!(!before.runs_the_same(&after, "process-bus") && before.runs_the_same(&after, "meters"));
}

#[test]
fn everything_is_new_without_a_before_and_nothing_changes_against_itself() {
    let draft = draft(GATEWAY, POINTS);
    let all = difference(None, &draft);
    assert_eq!(all.objects.len(), draft.objects().count());
    assert!(all.objects.iter().all(|object| object.change == Change::Added));
    assert_eq!(fates(&all.links), [("process-bus", PartFate::Started)]);
    assert!(difference(Some(&draft), &draft).is_empty());
    let gone = difference(Some(&draft), &Draft::new("alderfen-1"));
    assert_eq!(fates(&gone.links), [("process-bus", PartFate::Stopped)]);
}

#[test]
fn a_certificate_is_told_by_its_end() {
    let with = |last: &str| {
        let ca = format!(
            "node = \"works-1\"\nca = \"\"\"\n-----BEGIN CERTIFICATE-----\nMIIB\n{last}\n-----END CERTIFICATE-----\n\"\"\""
        );
        draft(&GATEWAY.replace("mqtt://", "mqtts://").replace("node = \"works-1\"", &ca), POINTS)
    };
    let told = difference(Some(&with("zmYf4aLBw==")), &with("qx/DTc4="));
    assert_eq!(told.objects[0].words, "uplink cloud: ca (4 lines, …f4aLBw==) → (4 lines, …qx/DTc4=)");
}

#[test]
fn access_is_in_a_birth_where_hosts_may_command() {
    let with = |access: &str, commands: &str| {
        let points = POINTS.replace("read-write", access);
        draft(&GATEWAY.replace("node = \"works-1\"", &format!("node = \"works-1\"\n{commands}")), &points)
    };
    for (commands, fate) in [("", PartFate::Untouched), ("commands = true", PartFate::Reborn)] {
        let told = difference(Some(&with("read-write", commands)), &with("read", commands));
        assert_eq!(told.uplinks[0].fate, fate, "{told}");
    }
}

#[test]
fn a_secret_is_told_to_differ_and_not_what_it_is() {
    let with = |password: &str| {
        let user = format!("node = \"works-1\"\nuser = \"works\"\npassword = \"{password}\"");
        draft(&GATEWAY.replace("node = \"works-1\"", &user), POINTS)
    };
    let told = difference(Some(&with("heron-1")), &with("heron-2"));
    assert_eq!(told.objects[0].words, "uplink cloud: password (stored) → (stored)");
    assert!(!serde_json::to_string(&told).unwrap().contains("heron"));
    assert!(!format!("{:?}", read(&with("heron-1").to_files())).contains("heron"), "nor in debug output");
}

proptest! {
    /// The fates in the words are those that the gateway acts by, whatever was edited.
    #[test]
    fn words_and_deeds_agree(edits in prop::collection::vec((0_usize..9, 0_u16..4), 0..4)) {
        let mut gateway = two_links();
        let (mut points, mut meter) = (POINTS.to_owned(), METER.to_owned());
        for (what, number) in edits {
            match what {
                0 => gateway = gateway.replace("unit = 3", &format!("unit = {}", 3 + number)),
                1 => gateway = gateway.replace("fast = \"500ms\"", &format!("fast = \"{}ms\"", 500 + number)),
                2 => gateway = gateway.replace("10.20.0.12", &format!("10.20.0.{}", 12 + number)),
                3 => points = points.replace("ch4,input:0", &format!("ch4,input:{number}")),
                4 => points = points.replace("Methane", &format!("Methane {number}")),
                5 => meter.push_str(&format!("n{number},holding:{number},uint16,,normal\n")),
                6 => meter = meter.replace("kW", ["kW", "W", "MW", "GW"][usize::from(number)]),
                7 => gateway = gateway.replace("[[device]]\nname = \"meter\"", &format!("[[device]]\nname = \"meter-{number}\"")),
                _ => gateway = gateway.replace("link = \"meters\"", "link = \"process-bus\"").replace("unit = 1\n", "unit = 9\n"),
            }
        }
        let before = with_meter(&two_links(), POINTS, METER);
        let mut files = files(&gateway, &points);
        files.insert("points/meter.csv".to_owned(), meter);
        let Ok(after) = read(&files) else { return Ok(()) };
        let told = difference(Some(&Draft::from(&before)), &Draft::from(&after));
        for link in ["process-bus", "meters"] {
            let fate = told.links.iter().find(|part| part.name == link).unwrap().fate;
            prop_assert_eq!(before.runs_the_same(&after, link), fate == PartFate::Untouched, "{} {}", link, told);
            let is_restarted = !matches!(fate, PartFate::Untouched | PartFate::Changed);
            prop_assert_eq!(!before.connects_the_same(&after, link), is_restarted, "{} {}", link, told);
        }
    }
}
