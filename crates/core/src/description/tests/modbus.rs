use super::*;

#[test]
fn devices_that_share_a_unit_have_its_settings_and_are_asked_together() {
    let device = GATEWAY.split("[[device]]").nth(1).unwrap().split("[[uplink]]").next().unwrap();
    let second = device.replace("\"gas-analyser\"", "\"analyser-2\"");
    let with =
        |keys: &str| format!("{GATEWAY}\n[[device]]{}", second.replace("unit = 3", &format!("unit = 3\n{keys}")));
    let told = problems(&with("base = 10\nmax-gap = 4"), POINTS);
    let clash = "unit 3 on link \"process-bus\" is device \"gas-analyser\" too, whose max-gap is 0; expected the same";
    assert!(told.len() == 1 && told[0].contains(clash), "{told:?}");
    let told = problems(&with("base = 10\nholes = \"holding:90\""), POINTS);
    assert!(told.len() == 1 && told[0].contains("too, without holes; expected the same"), "{told:?}");
    let warned = check(&Draft::from(&read(&files(&with(""), POINTS)).unwrap()));
    let same_base =
        |problem: &Problem| problem.to_string().contains("is device \"gas-analyser\" too, with the same base");
    assert!(warned.problems.iter().any(same_base), "{:?}", warned.problems);
    let points = "name,address,type,rate\na,holding:0,uint16,fast\nb,holding:1,uint16,fast\n";
    let description = read(&files(&with("base = 2\nratio = 40"), points)).unwrap();
    let devices: Vec<_> = description.devices.iter().collect();
    assert_eq!(units(devices.iter().copied()), [(3, vec![0, 1])]);
    let requests = planned(&description.rates, &devices);
    assert_eq!(requests.len(), 1, "one request reads both: {requests:?}");
    let expected = [(0, 0, (0, 0)), (1, 1, (0, 1)), (2, 2, (1, 0)), (3, 3, (1, 1))];
    assert_eq!(requests[0].block.items, expected);
}

#[test]
fn a_line_that_cannot_carry_its_rates_is_found() {
    // 125 registers: 8 + 255 characters of 11 bits at 9600 baud and 7 characters of silence, 309 ms in all.
    let points: String = (0..125).map(|n| format!("p{n},input:{n},uint16,normal\n")).collect();
    let points = format!("name,address,type,rate\n{points}");
    let at = |rate: &str| {
        let gateway = GATEWAY
            .replace("host = \"10.20.0.11\"", "host = \"10.20.0.11\"\nserial-baud = 9600")
            .replace("normal = \"2s\"", &format!("normal = \"{rate}\""));
        check_files(&files(&gateway, &points))
            .problems
            .iter()
            .map(|p| (p.severity, p.message.clone()))
            .collect::<Vec<_>>()
    };
    assert_eq!(at("2s"), []);
    assert_eq!(
        at("400ms"),
        [(Severity::Warning, "2.5 requests a second keep the line busy 77 % of the time".to_owned())]
    );
    assert_eq!(
        at("300ms"),
        [(Severity::Mistake, "3.3 requests a second keep the line busy 103 % of the time".to_owned())]
    );
    let insists = GATEWAY
        .replace("host = \"10.20.0.11\"", "host = \"10.20.0.11\"\nserial-baud = 9600\nmost-load = 120")
        .replace("normal = \"2s\"", "normal = \"300ms\"");
    let told = check_files(&files(&insists, &points)).problems;
    assert!(told.len() == 1 && told[0].severity == Severity::Warning, "{told:?}");
}

#[test]
fn links_of_every_protocol_read_back_as_what_they_are() {
    let serial =
        GATEWAY.replace("host = \"10.20.0.11\"", "device-path = \"/dev/ttyUSB0\"\nparity = \"none\"\nbaud = 9600");
    let is_valid = |gateway: &str| {
        let json = serde_json::to_value(gateway.parse::<toml::Table>().unwrap()).unwrap();
        jsonschema::validator_for(&file_schema()).unwrap().is_valid(&json)
    };
    for (word, gateway) in [
        ("modbus-tcp", GATEWAY),
        ("modbus-rtu-tcp", GATEWAY),
        ("modbus-ascii-tcp", GATEWAY),
        ("modbus-rtu", &serial),
        ("modbus-ascii", &serial),
    ] {
        let gateway = gateway.replace("modbus-tcp", word);
        let description = read(&files(&gateway, POINTS)).unwrap();
        assert_eq!(description.links[0].protocol.word(), word);
        assert_eq!(read(&write(&description)).unwrap(), description);
        assert!(is_valid(&gateway), "{word}");
    }
    let told = problems(&GATEWAY.replace("modbus-tcp", "modbus"), POINTS);
    assert!(told[0].contains(r#"expected protocol = "modbus-tcp" or "modbus-rtu" or"#), "{told:?}");
    let read_back = read(&files(&serial.replace("modbus-tcp", "modbus-rtu"), POINTS)).unwrap();
    let LinkProtocol::Modbus(link) = &read_back.links[0].protocol else { panic!() };
    let timing = link.timing();
    assert_eq!((timing.baud, timing.bits_per_character), (Some(9600), 11), "no parity, two stop bits");
    for (wrong, expected) in [
        ("data-bits = 7", "RTU frames take 8 data bits"),
        ("parity = \"mark\"", "expected one of even, odd, none"),
        ("device-path = \"COM3\"", "expected the path of a serial port"),
    ] {
        let key = wrong.split(' ').next().unwrap();
        let lines = serial.lines().filter(|line| !line.starts_with(key)).collect::<Vec<_>>().join("\n");
        let gateway = lines.replace("protocol = \"modbus-tcp\"", &format!("protocol = \"modbus-rtu\"\n{wrong}"));
        let told = problems(&gateway, POINTS);
        assert!(told[0].contains(expected), "{told:?}");
    }
    let told = problems(&GATEWAY.replace("modbus-tcp\"", "modbus-rtu-tcp\"\nin-flight = 4"), POINTS);
    assert!(told[0].contains("RTU frames do not say which answer"), "{told:?}");
}

#[test]
fn one_list_serves_devices_at_other_addresses_and_ratios() {
    let points =
        "name,address,type,scale,by-ratio,rate\npower,input:10,int16,0.1,true,fast\nhours,input:11,uint16,0.1,,fast\n";
    let other = "[[device]]\nname = \"meter-2\"\nlink = \"process-bus\"\nunit = 4\nbase = 1000\nratio = 40\npoints = \"points/gas-analyser.csv\"\n\n[[uplink]]";
    let gateway = GATEWAY.replace("[[uplink]]", other);
    let description = read(&files(&gateway, points)).unwrap();
    let point = |device: usize, at: usize| &description.devices[device].points[at];
    assert_eq!([point(0, 0), point(1, 0)].map(|p| p.address.to_string()), ["input:10", "input:1010"]);
    let value = |device, at| point(device, at).shaping.apply(&crate::Value::Int(500)).as_f64().unwrap();
    assert_eq!([value(0, 0), value(1, 0), value(1, 1)], [50.0, 2000.0, 50.0]);
    assert_eq!(read(&write(&description)).unwrap(), description, "the list is written as it was");
    let told = problems(&gateway.replace("base = 1000", "base = 65530"), points);
    assert!(told[0].contains("input:10 with a base of 65530 is past address 65535"), "{told:?}");
    assert!(problems(&gateway.replace("ratio = 40", "ratio = 0"), points)[0].contains("a ratio of 0"));
}

#[test]
fn no_request_touches_a_hole() {
    let points = "name,address,type,rate\na,holding:0,uint16,fast\nb,holding:3,uint16,fast\nc,holding:5,uint16,fast\n";
    let with = |holes: &str| GATEWAY.replace("unit = 3", &format!("unit = 3\nmax-gap = 4\nholes = \"{holes}\""));
    let ranges = |holes: &str| {
        let description = read(&files(&with(holes), points)).unwrap();
        let requests = planned(&description.rates, &[&description.devices[0]]);
        requests.into_iter().map(|request| request.block.range.into_inner()).collect::<Vec<_>>()
    };
    assert_eq!(ranges("input:1"), [(0, 5)]);
    assert_eq!(ranges("holding:1;holding:4"), [(0, 0), (3, 3), (5, 5)]);
    let told = problems(&with("holding:2-3"), points);
    assert!(told[0].contains("holding:3 is in a hole of the device: holding:2-3"), "{told:?}");
    assert!(problems(&with("holding:3-2"), points)[0].contains("expected addresses and ranges with ;"));
}

#[test]
fn what_is_for_another_kind_is_told_so() {
    let gateway = GATEWAY.replace("host = \"10.20.0.11\"", "host = \"10.20.0.11\"\nbaud = 9600");
    let told = problems(&gateway, POINTS);
    let expected = "gateway.toml:14:1: link \"process-bus\": baud is not for protocol = \"modbus-tcp\"; expected no baud; it is for \
                    protocol = \"modbus-rtu\" or protocol = \"modbus-ascii\" or protocol = \"dnp3-serial\"";
    assert_eq!(told, [expected]);
    let told = problems(&GATEWAY.replace("unit = 3", "unit = 3\nbase-address = 1"), POINTS);
    assert!(
        told[0].contains("base-address is no known key; expected one of name, title, link, points, unit"),
        "{told:?}"
    );
}
