//! What sixteen clients at once wait for, and what the server takes of memory: under pages, windows, exports, posts of
//! strangers and uploads.

use crate::{Failed, run, say};
use reqwest::redirect::Policy;
use reqwest::{Client, multipart};
use std::net::TcpListener;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

const CLIENTS: usize = 16;
/// Requests of each client of one kind.
const EACH: usize = 25;

/// A started server; killed when dropped.
struct Server {
    child: Child,
    base: String,
}

impl Drop for Server {
    fn drop(&mut self) {
        // It may have ended by itself.
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

impl Server {
    async fn start(program: &Path, arguments: &[&str], data: &Path, port_flag: bool) -> Result<(Self, String), Failed> {
        let address = TcpListener::bind("127.0.0.1:0")?.local_addr()?;
        let mut command = Command::new(program);
        command.args(arguments).arg("--data").arg(data).stderr(Stdio::piped());
        if port_flag {
            command.args(["--port", &address.port().to_string()]);
        } else {
            command.args(["--listen", &address.to_string()]);
        }
        let mut child = command.spawn()?;
        let output = child.stderr.take().ok_or("the server has no output")?;
        let wants = if port_flag { "Ebrel is ready" } else { "asks for this code" };
        let said = tokio::task::spawn_blocking(move || {
            use std::io::BufRead;
            let lines = std::io::BufReader::new(output).lines().map_while(Result::ok);
            lines.into_iter().find(|l| l.contains(wants)).unwrap_or_default()
        })
        .await?;
        Ok((Self { child, base: format!("http://{address}") }, said))
    }

    /// Memory of the process now and at its most, MB.
    fn memory(&self) -> Result<(f64, f64), Failed> {
        let status = std::fs::read_to_string(format!("/proc/{}/status", self.child.id()))?;
        let of = |name: &str| -> f64 {
            let line = status.lines().find(|l| l.starts_with(name)).unwrap_or_default();
            line.split_whitespace().nth(1).and_then(|n| n.parse::<f64>().ok()).unwrap_or(f64::NAN) / 1024.0
        };
        Ok((of("VmRSS"), of("VmHWM")))
    }
}

/// Times of requests by many clients at once, sorted, ms.
async fn together(server: &Server, paths: &[&str], each: usize) -> Result<Vec<f64>, Failed> {
    let tasks = (0..CLIENTS).map(|c| {
        let paths: Vec<String> = paths.iter().map(|p| format!("{}{p}", server.base)).collect();
        tokio::spawn(async move {
            let client = Client::builder().redirect(Policy::none()).build()?;
            let mut times = Vec::new();
            for i in 0..each {
                let begin = Instant::now();
                let answer = client.get(&paths[(i + c) % paths.len()]).header("accept-encoding", "gzip").send().await?;
                let good = answer.status().is_success();
                answer.bytes().await?;
                times.push(if good { begin.elapsed().as_secs_f64() * 1000.0 } else { f64::INFINITY });
            }
            Ok::<_, reqwest::Error>(times)
        })
    });
    let mut all = Vec::new();
    for task in tasks.collect::<Vec<_>>() {
        all.extend(task.await??);
    }
    all.sort_by(f64::total_cmp);
    Ok(all)
}

fn figures(name: &str, times: &[f64]) {
    let at = |p: f64| times[((times.len() - 1) as f64 * p).round() as usize];
    say(&format!(
        "{name}: {} requests, median {:.0} ms, p99 {:.0} ms, longest {:.0} ms",
        times.len(),
        at(0.5),
        at(0.99),
        at(1.0)
    ));
}

/// Runs all of it and says the figures.
pub async fn take(root: &Path) -> Result<(), Failed> {
    run("cargo", &["build", "--release", "--package", "ebrel"])?;
    let target = std::env::var("CARGO_TARGET_DIR").map_or_else(|_| root.join("target"), PathBuf::from);
    let program = target.join("release/ebrel");
    let dir = tempfile::tempdir()?;
    demo(&program, &dir.path().join("demo")).await?;
    strangers(&program, &dir.path().join("empty")).await
}

/// The demo under sixteen clients.
async fn demo(program: &Path, data: &Path) -> Result<(), Failed> {
    let (server, _) = Server::start(program, &["demo"], data, true).await?;
    let pages = [
        "/studies/1",
        "/stations/1",
        "/stations/1/review",
        "/stations/1/export",
        "/studies/1/bench",
        "/studies/1/probes",
        "/stations/1/plan/depths",
        "/bench/4",
        "/stations/1/placements",
        "/assets/vendor/bootstrap/bootstrap.min.css",
    ];
    // Once alone, so that series and assets are in memory as they are on any running server.
    together(&server, &pages, 2).await?;
    figures("pages", &together(&server, &pages, EACH).await?);
    for page in pages {
        figures(page, &together(&server, &[page], 6).await?);
    }
    let all = ["/stations/1/window.json?from=1709251200&to=1788220800&columns=960&show=both"];
    together(&server, &all, 1).await?;
    figures("window of all years", &together(&server, &all, EACH).await?);
    let (now, _) = server.memory()?;
    say(&format!("memory after that: {now:.0} MB"));
    let begin = Instant::now();
    figures("wide tables, eight of sixteen at once", &together(&server, &["/stations/1/export/wide.csv"], 1).await?);
    figures("pages meanwhile and after", &together(&server, &pages, 5).await?);
    tokio::time::sleep(Duration::from_secs(3)).await;
    let (now, most) = server.memory()?;
    say(&format!(
        "sixteen wide tables in {:.1} s; memory {now:.0} MB, at most {most:.0} MB",
        begin.elapsed().as_secs_f64()
    ));
    Ok(())
}

/// A server with an owner, and what strangers and large files do to it.
async fn strangers(program: &Path, data: &Path) -> Result<(), Failed> {
    let (server, said) = Server::start(program, &["serve"], data, false).await?;
    let code = said.rsplit(' ').next().unwrap_or_default().to_owned();
    let owner = Client::builder().cookie_store(true).redirect(Policy::none()).build()?;
    let token = token(&owner, &format!("{}/first", server.base)).await?;
    let form = [("name", "N. Arvel"), ("password", "coppice hazel coupe"), ("code", &code), ("token", &token)];
    owner.post(format!("{}/first", server.base)).form(&form).send().await?;
    let posts = (0..256).map(|_| {
        let address = format!("{}/first", server.base);
        tokio::spawn(async move {
            Client::new().post(address).form(&[("name", "x"), ("password", "coppice hazel coupe")]).send().await
        })
    });
    for post in posts.collect::<Vec<_>>() {
        // Refused is what they shall be.
        let _ = post.await?;
    }
    say(&format!("256 posts to /first: memory {:.0} MB, at most {:.0} MB", server.memory()?.0, server.memory()?.1));
    slow_bodies(&server, &owner).await?;
    let token = self::token(&owner, &format!("{}/studies/new", server.base)).await?;
    let send = |path: &'static str, fields: Vec<(&'static str, String)>| {
        let fields: Vec<_> = fields.into_iter().chain([("token", token.clone())]).collect();
        owner.post(format!("{}{path}", server.base)).form(&fields).send()
    };
    send("/studies/new", vec![("name", "S".into()), ("offset", "+00:00".into())]).await?;
    send("/studies/1/stations/new", vec![("name", "A".into())]).await?;
    for (count, megabytes) in [(20, 50), (1, 190)] {
        let file = logger_file(megabytes);
        let uploads = (0..count).map(|i| {
            let part = multipart::Part::bytes(file.clone()).file_name(format!("node{i}.csv"));
            let form = multipart::Form::new().text("token", token.clone()).part("file", part);
            let request = owner.post(format!("{}/stations/1/import", server.base)).multipart(form);
            tokio::spawn(async move { request.send().await.map(|a| a.status()) })
        });
        let mut answers = Vec::new();
        for upload in uploads.collect::<Vec<_>>() {
            answers.push(upload.await??.as_u16());
        }
        let taken = answers.iter().filter(|a| **a == 303).count();
        say(&format!(
            "{count} uploads of {megabytes} MB at once ({taken} taken): memory {:.0} MB, at most {:.0} MB",
            server.memory()?.0,
            server.memory()?.1
        ));
    }
    tokio::time::sleep(Duration::from_secs(5)).await;
    say(&format!("five seconds later: {:.0} MB", server.memory()?.0));
    Ok(())
}

/// 1,100 clients that begin a form and do not go on; the owner's page meanwhile.
async fn slow_bodies(server: &Server, owner: &Client) -> Result<(), Failed> {
    use tokio::io::AsyncWriteExt;
    let address = server.base.trim_start_matches("http://").to_owned();
    let mut held = Vec::new();
    for _ in 0..1100 {
        let mut stream = tokio::net::TcpStream::connect(&address).await?;
        let head = format!(
            "POST /sign-in HTTP/1.1\r\nhost: {address}\r\ncontent-type: application/x-www-form-urlencoded\r\ncontent-length: 4000\r\n\r\nname="
        );
        stream.write_all(head.as_bytes()).await?;
        held.push(stream);
    }
    let begin = Instant::now();
    let answer = owner.get(format!("{}/studies/new", server.base)).timeout(Duration::from_secs(30)).send().await;
    let words = answer.map_or_else(|e| e.to_string(), |a| a.status().to_string());
    say(&format!(
        "beside 1100 clients with unfinished forms: a page answers {words} after {:.2} s",
        begin.elapsed().as_secs_f64()
    ));
    Ok(())
}

async fn token(client: &Client, address: &str) -> Result<String, Failed> {
    let page = client.get(address).send().await?.text().await?;
    let token = page.split("ebrel-token\" content=\"").nth(1).and_then(|t| t.split('"').next());
    Ok(token.ok_or("the page has no token")?.to_owned())
}

/// A file as a logger with twelve channels writes it.
fn logger_file(megabytes: usize) -> Vec<u8> {
    let mut text = String::from(
        "time,m01 [mV],m02 [mV],m03 [mV],m04 [mV],m05 [mV],m06 [mV],t01 [degC],t02 [degC],t03 [degC],t04 [degC],t05 [degC],t06 [degC]\n",
    );
    let mut t = 1_300_000_000;
    while text.len() < megabytes * 1024 * 1024 {
        text += &format!("{t},901.1,902.2,903.3,904.4,905.5,906.6,10.11,10.22,10.33,10.44,10.55,10.66\n");
        t += 60;
    }
    text.into_bytes()
}
