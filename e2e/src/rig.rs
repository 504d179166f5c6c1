use crate::program::{Output, Program, run};
use crate::wait_for;
use interlex_sidecar::{Broker, Database, own_address, own_socket};
use serde_json::{Value, json};
use std::net::{Ipv4Addr, SocketAddr};
use std::path::{Path, PathBuf};

pub const PERSON: &str = "ada";
pub const PASSWORD: &str = "digester-42";

/// A service with everything around it, each in a process of its own that can be stopped and started.
pub struct Rig {
    directory: tempfile::TempDir,
    pub database: Database,
    pub broker: Broker,
    pub plant: Program,
    pub service: Program,
    pub url: String,
    plant_host: Ipv4Addr,
    http: reqwest::Client,
    pub token: String,
}

impl Rig {
    /// Starts everything, names the administrator, signs the client in and activates the demo's description.
    pub async fn start() -> Self {
        let mut rig = Self::bare().await;
        rig.set_up().await;
        let out = rig.interlex(&["config", "apply", &rig.description().await, "--activate", "--note", "first"]).await;
        assert!(out.code == 0 && out.out.starts_with("alderfen-1 runs revision 1.\n"), "{out:?}");
        rig.until("all points are good", |status| status["gateways"][0]["points_good"] == 36).await;
        rig.until("the uplink is online", |status| status["gateways"][0]["uplinks"][0]["state"] == "online").await;
        rig
    }

    /// Starts everything, but nobody can sign in and nothing is described.
    pub async fn bare() -> Self {
        // The client library of the harness needs a provider too; a second call changes nothing.
        let _ = rustls::crypto::ring::default_provider().install_default();
        let directory = tempfile::tempdir().unwrap();
        let at = |name: &str| directory.path().join(name);
        let database = Database::start(&at("database"), own_socket().unwrap()).await.unwrap();
        let broker = Broker::start(&at("broker"), own_socket().unwrap()).await.unwrap();
        let plant_host = own_address();
        let plant = start_plant(plant_host, &at("home"));
        let listen = own_socket().unwrap().to_string();
        let service = start_service(&listen, &database, &at("service"), &at("home"));
        let url = format!("http://{listen}");
        let http = reqwest::Client::new();
        let rig = Self { directory, database, broker, plant, service, url, plant_host, http, token: String::new() };
        rig.ready().await;
        rig
    }

    pub async fn ready(&self) {
        wait_for("the service is ready", || async {
            let answer = self.http.get(format!("{}/readyz", self.url)).send().await.ok()?;
            answer.status().is_success().then_some(())
        })
        .await;
    }

    pub fn home(&self) -> PathBuf {
        self.directory.path().join("home")
    }

    /// The link that the service printed for the first set-up.
    pub async fn setup_link(&self) -> String {
        let file = self.directory.path().join("service").join("set-up-link");
        wait_for("the set-up link", || async {
            std::fs::read_to_string(&file).ok().filter(|text| text.ends_with('\n'))
        })
        .await
        .trim()
        .to_owned()
    }

    pub async fn set_up(&mut self) {
        let link = self.setup_link().await;
        let code = link.split_once("code=").unwrap().1;
        let body = json!({ "code": code, "name": PERSON, "password": PASSWORD });
        let answer = self.http.post(format!("{}/api/v1/setup", self.url)).json(&body).send().await.unwrap();
        assert_eq!(answer.status(), 201);
        self.sign_in().await;
    }

    pub async fn sign_in(&mut self) {
        let arguments = ["sign-in", &self.url.clone(), "--name", PERSON, "--password-stdin"];
        let out = run(&arguments, &self.home(), &format!("{PASSWORD}\n")).await;
        assert_eq!(out.code, 0, "{}", out.err);
        let remembered = std::fs::read_to_string(self.home().join("interlex/sign-in.toml")).unwrap();
        let token = remembered.lines().find_map(|line| line.strip_prefix("token = ")).unwrap();
        self.token = token.trim_matches('"').to_owned();
    }

    /// The demo's description with the ports of this rig, in a directory, without the serial line.
    pub async fn description(&self) -> String {
        let whole = self.description_with_line().await;
        let path = Path::new(&whole).join("gateway.toml");
        let text = std::fs::read_to_string(&path).unwrap();
        let (before, line) = text.split_once("[[link]]\nname = \"meter-line\"").unwrap();
        let after = line.split_once("[[uplink]]").unwrap().1;
        std::fs::write(path, format!("{before}[[uplink]]{after}")).unwrap();
        for list in ["points/heat-meter.csv", "points/gas-meter.csv"] {
            std::fs::remove_file(Path::new(&whole).join(list)).unwrap();
        }
        whole
    }

    /// The same with the serial line.
    pub async fn description_with_line(&self) -> String {
        let source = Path::new(env!("CARGO_MANIFEST_DIR")).join("../demo");
        let target = self.directory.path().join("description");
        std::fs::create_dir_all(target.join("points")).unwrap();
        let lists = std::fs::read_dir(source.join("points")).unwrap();
        let lists = lists.map(|list| format!("points/{}", list.unwrap().file_name().display()));
        for file in lists.chain(["gateway.toml".to_owned()]) {
            let text = std::fs::read_to_string(source.join(&file)).unwrap();
            let text = text.replace("127.0.0.1:7402", &self.broker.address().to_string());
            let text = text.replace("127.0.0.1", &self.plant_host.to_string());
            let text = text.replace("/dev/ttyUSB0", &line_path(&self.home()));
            // Engine, grid connection and heating are for the demo: here nobody runs them.
            let text = match text.split_once("[[link]]\nname = \"engine\"") {
                Some((before, engine)) => format!("{before}[[uplink]]{}", engine.split_once("[[uplink]]").unwrap().1),
                None => text,
            };
            let of_those = ["engine", "grid", "heat-network", "boiler-house"].map(|name| format!("points/{name}.csv"));
            if !of_those.contains(&file) {
                std::fs::write(target.join(file), text).unwrap();
            }
        }
        target.display().to_string()
    }

    /// Where the plant speaks Modbus TCP.
    pub fn plant(&self) -> SocketAddr {
        (self.plant_host, PLANT_PORT).into()
    }

    /// Runs the client.
    pub async fn interlex(&self, arguments: &[&str]) -> Output {
        run(arguments, &self.home(), "").await
    }

    pub async fn get(&self, path: &str) -> Value {
        let answer = self.http.get(format!("{}{path}", self.url)).bearer_auth(&self.token).send().await.unwrap();
        answer.json().await.unwrap()
    }

    pub async fn post(&self, path: &str, body: &Value) -> (u16, Value) {
        let request = self.http.post(format!("{}{path}", self.url)).bearer_auth(&self.token).json(body);
        let answer = request.send().await.unwrap();
        (answer.status().as_u16(), answer.json().await.unwrap_or_default())
    }

    /// Sends a body as it is; gives status, media type and text of the answer.
    pub async fn post_raw(&self, path: &str, body: &str) -> (u16, String, String) {
        let request = self.http.post(format!("{}{path}", self.url)).bearer_auth(&self.token).body(body.to_owned());
        let answer = request.header("content-type", "application/json").send().await.unwrap();
        let kind = answer.headers()["content-type"].to_str().unwrap().to_owned();
        (answer.status().as_u16(), kind, answer.text().await.unwrap())
    }

    pub async fn status(&self) -> Value {
        self.get("/api/v1/status").await
    }

    /// Waits until the status fulfils a condition.
    pub async fn until(&self, what: &str, holds: impl Fn(&Value) -> bool) {
        wait_for(what, || async { holds(&self.status().await).then_some(()) }).await;
    }

    /// What the registers of the plant say right now.
    pub async fn truth(&self) -> Value {
        self.http.get(self.control("truth")).send().await.unwrap().json().await.unwrap()
    }

    /// Freezes the model of the plant, or lets it go on.
    pub async fn set_plant_running(&self, running: bool) {
        let body = json!({ "running": running });
        let answer = self.http.put(self.control("running")).json(&body).send().await.unwrap();
        assert!(answer.status().is_success());
    }

    pub async fn fault(&self, device: &str, fault: &str, is_on: bool) {
        let url = self.control(&format!("faults/{device}/{fault}"));
        let request = if is_on { self.http.put(url) } else { self.http.delete(url) };
        assert!(request.send().await.unwrap().status().is_success());
    }

    fn control(&self, path: &str) -> String {
        format!("http://{}:{CONTROL_PORT}/{path}", self.plant_host)
    }

    pub fn restart_plant(&mut self) {
        self.plant = start_plant(self.plant_host, &self.home());
    }

    /// Runs the service anew, by TLS with a certificate that it makes itself. Gives its address and the certificate.
    pub async fn restart_with_tls(&mut self) -> (String, PathBuf) {
        assert_eq!(self.service.interrupt().await, 0, "{}", self.service.said());
        let (listen, data) = (own_socket().unwrap().to_string(), self.directory.path().join("service"));
        let database = self.database.url("interlex");
        let data_dir = data.display().to_string();
        let arguments =
            ["serve", "--listen", &listen, "--database", &database, "--data-dir", &data_dir, "--tls-self-made"];
        self.service = Program::start(&arguments, &self.home());
        self.service.says("listening").await;
        (format!("https://{listen}"), data.join("tls-cert.pem"))
    }

    /// Stops the service in its tracks, or lets it go on.
    pub fn freeze(&self, is_frozen: bool) {
        self.service.freeze(is_frozen);
    }

    /// Where the service keeps what is not in the database.
    pub fn data_dir(&self) -> PathBuf {
        self.directory.path().join("service")
    }

    /// Stops the service in order; tells its exit code.
    pub async fn stop_service(&mut self) -> i32 {
        self.service.interrupt().await
    }

    pub async fn restart_service(&mut self) {
        let listen = self.url.strip_prefix("http://").unwrap();
        self.service = start_service(listen, &self.database, &self.directory.path().join("service"), &self.home());
        self.ready().await;
    }
}

/// Where the plant's serial line can be opened.
fn line_path(home: &Path) -> String {
    home.join("meter-line").display().to_string()
}

/// Its ports where nothing else is said.
const PLANT_PORT: u16 = 7403;
const CONTROL_PORT: u16 = 7404;

fn start_plant(host: Ipv4Addr, home: &Path) -> Program {
    std::fs::create_dir_all(home).unwrap();
    Program::start(&["plant", "--host", &host.to_string(), "--serial-path", &line_path(home)], home)
}

fn start_service(listen: &str, database: &Database, data: &Path, home: &Path) -> Program {
    let (database, data) = (database.url("interlex"), data.display().to_string());
    Program::start(&["serve", "--listen", listen, "--database", &database, "--data-dir", &data], home)
}
