//! Any text as a description: what is right is the same after it was written and read again.
#![no_main]

use interlex_core::description::{Files, read, write};
use libfuzzer_sys::fuzz_target;

const HEAD: &str = "[gateway]\nname = \"alderfen-1\"\n[rates]\nfast = \"500ms\"\n[[link]]\nname = \"bus\"\nprotocol = \
                    \"modbus-tcp\"\nhost = \"h\"\n[[device]]\nname = \"d\"\nlink = \"bus\"\nunit = 3\npoints = \"p.csv\"\n";

fuzz_target!(|data: &[u8]| {
    let [which, rest @ ..] = data else { return };
    let Ok(text) = std::str::from_utf8(rest) else { return };
    let (main, list) = match which % 3 {
        0 => (text.to_owned(), String::from("name,address,type,rate\na,holding:0,uint16,fast\n")),
        1 => (format!("{HEAD}{text}"), String::from("name,address,type,rate\na,holding:0,uint16,fast\n")),
        _ => (HEAD.to_owned(), text.to_owned()),
    };
    let files: Files = [("gateway.toml".to_owned(), main), ("p.csv".to_owned(), list)].into();
    match read(&files) {
        Ok(description) => {
            let written = write(&description);
            let again = read(&written).map(|description| write(&description));
            assert_eq!(again, Ok(written));
        }
        Err(problems) => assert!(!problems.is_empty(), "whoever is refused is told why"),
    }
});
