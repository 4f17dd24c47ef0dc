//! A headless browser for journeys and pictures: ChromeDriver and Chromium, each with a fresh profile.
//!
//! Used by the browser tests and by `cargo xtask shots`; it is no part of the application.

use fantoccini::error::CmdError;
use fantoccini::wd::{Capabilities, WebDriverCompatibleCommand};
use fantoccini::{Client, ClientBuilder, Locator};
use hyper_util::client::legacy::connect::HttpConnector;
use std::path::Path;
use std::process::Stdio;
use std::time::Duration;
use tokio::io::{AsyncBufReadExt, AsyncReadExt, BufReader};
use tokio::process::{Child, ChildStdout, Command};

/// How long a condition may take to come true.
const PATIENCE: Duration = Duration::from_secs(20);

/// How often ChromeDriver may end before it listens.
const DRIVER_STARTS: usize = 5;

/// One browser window. Call [`Browser::close`] at the end; the driver dies with the value in any case.
pub struct Browser {
    client: Client,
    _driver: Child,
    _profile: tempfile::TempDir,
}

/// ChromeDriver's own command for the state of the network.
#[derive(Debug)]
struct Network {
    cut: bool,
}

impl WebDriverCompatibleCommand for Network {
    fn endpoint(&self, base: &url::Url, session: Option<&str>) -> Result<url::Url, url::ParseError> {
        base.join(&format!("session/{}/chromium/network_conditions", session.unwrap_or_default()))
    }

    fn method_and_body(&self, _: &url::Url) -> (http::Method, Option<String>) {
        let conditions = serde_json::json!({"offline": self.cut, "latency": 0, "throughput": 100_000_000});
        (http::Method::POST, Some(serde_json::json!({"network_conditions": conditions}).to_string()))
    }
}

/// What can go wrong, in words.
pub type Failed = Box<dyn std::error::Error + Send + Sync>;

impl Browser {
    /// Starts ChromeDriver on a free port and a window of `width` by `height`.
    ///
    /// # Errors
    /// If Chromium or ChromeDriver is not installed or does not start.
    pub async fn start(width: u32, height: u32) -> Result<Self, Failed> {
        let (driver, port) = start_driver().await?;
        let profile = tempfile::tempdir()?;
        let arguments = [
            "--headless",
            "--no-sandbox",
            "--disable-gpu",
            "--disable-background-networking",
            "--disable-component-update",
            "--disable-sync",
            "--no-first-run",
            "--hide-scrollbars",
            &format!("--window-size={width},{height}"),
            &format!("--user-data-dir={}", profile.path().display()),
        ]
        .map(str::to_owned);
        let mut capabilities = Capabilities::new();
        capabilities.insert("browserName".into(), "chrome".into());
        capabilities.insert("goog:chromeOptions".into(), serde_json::json!({ "args": arguments }));
        let client = ClientBuilder::new(HttpConnector::new())
            .capabilities(capabilities)
            .connect(&format!("http://127.0.0.1:{port}"))
            .await?;
        Ok(Self { client, _driver: driver, _profile: profile })
    }

    /// Opens a page and waits until it is loaded.
    ///
    /// # Errors
    /// If the page cannot be opened.
    pub async fn open(&self, address: &str) -> Result<(), CmdError> {
        self.client.goto(address).await
    }

    /// The address the window is at.
    ///
    /// # Errors
    /// If the browser is gone.
    pub async fn address(&self) -> Result<String, CmdError> {
        Ok(self.client.current_url().await?.to_string())
    }

    /// Waits for an element.
    ///
    /// # Errors
    /// If it does not come within [`PATIENCE`].
    pub async fn wait(&self, css: &str) -> Result<(), CmdError> {
        self.client.wait().at_most(PATIENCE).for_element(Locator::Css(css)).await.map(|_| ())
    }

    /// Waits until an element's text contains `words`, and returns the whole text.
    ///
    /// # Errors
    /// If it does not come to that; the error tells what stood there instead.
    pub async fn wait_text(&self, css: &str, words: &str) -> Result<String, Failed> {
        let end = tokio::time::Instant::now() + PATIENCE;
        loop {
            let text = self.text(css).await.unwrap_or_default();
            if text.contains(words) {
                return Ok(text);
            }
            if tokio::time::Instant::now() > end {
                return Err(format!("“{css}” never said “{words}”; it says “{text}”").into());
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }

    /// The text of the first element that matches.
    ///
    /// # Errors
    /// If there is none.
    pub async fn text(&self, css: &str) -> Result<String, CmdError> {
        let read = async || self.client.find(Locator::Css(css)).await?.text().await;
        match read().await {
            // The page put another in its place between the two questions.
            Err(e) if e.is_stale_element_reference() => read().await,
            read => read,
        }
    }

    /// How many elements match.
    ///
    /// # Errors
    /// If the browser is gone.
    pub async fn count(&self, css: &str) -> Result<usize, CmdError> {
        Ok(self.client.find_all(Locator::Css(css)).await?.len())
    }

    /// Clicks the first element that matches.
    ///
    /// # Errors
    /// If there is none, or it cannot be clicked.
    pub async fn click(&self, css: &str) -> Result<(), CmdError> {
        self.client.find(Locator::Css(css)).await?.click().await
    }

    /// Clears a field and types into it.
    ///
    /// # Errors
    /// If there is no such field.
    pub async fn fill(&self, css: &str, text: &str) -> Result<(), CmdError> {
        let field = self.client.find(Locator::Css(css)).await?;
        field.clear().await?;
        field.send_keys(text).await
    }

    /// Chooses a file in a file field.
    ///
    /// # Errors
    /// If there is no such field.
    pub async fn choose_file(&self, css: &str, path: &Path) -> Result<(), CmdError> {
        self.client.find(Locator::Css(css)).await?.send_keys(&path.display().to_string()).await
    }

    /// Presses keys with nothing but the page in focus.
    ///
    /// # Errors
    /// If the browser is gone.
    pub async fn press(&self, keys: &str) -> Result<(), CmdError> {
        let body = self.client.find(Locator::Css("body")).await?;
        body.send_keys(keys).await
    }

    /// Types keys into the first element that matches, without clearing it.
    ///
    /// # Errors
    /// If there is none.
    pub async fn press_in(&self, css: &str, keys: &str) -> Result<(), CmdError> {
        self.client.find(Locator::Css(css)).await?.send_keys(keys).await
    }

    /// Types keys where the focus is: nothing is clicked before.
    ///
    /// # Errors
    /// If the browser is gone.
    pub async fn type_keys(&self, keys: &str) -> Result<(), CmdError> {
        self.client.active_element().await?.send_keys(keys).await
    }

    /// Runs a script in the page and returns its value.
    ///
    /// # Errors
    /// If the script fails.
    pub async fn script(&self, script: &str) -> Result<serde_json::Value, CmdError> {
        self.client.execute(script, Vec::new()).await
    }

    /// Runs a script again and again until its value is as wanted, and returns it.
    ///
    /// # Errors
    /// If that never happens.
    pub async fn wait_script(
        &self,
        script: &str,
        wanted: impl Fn(&serde_json::Value) -> bool,
    ) -> Result<serde_json::Value, Failed> {
        let end = tokio::time::Instant::now() + PATIENCE;
        loop {
            let value = self.script(script).await?;
            if wanted(&value) {
                return Ok(value);
            }
            if tokio::time::Instant::now() > end {
                return Err(format!("“{script}” never came to what was wanted; it is {value}").into());
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
    }

    /// Cuts the network off, or brings it back: the page then sees no line, while the server runs on.
    ///
    /// # Errors
    /// If the browser is gone.
    pub async fn cut_off(&self, cut: bool) -> Result<(), CmdError> {
        self.client.issue_cmd(Network { cut }).await.map(|_| ())
    }

    /// A picture of the window, PNG.
    ///
    /// # Errors
    /// If the browser is gone.
    pub async fn picture(&self) -> Result<Vec<u8>, CmdError> {
        self.client.screenshot().await
    }

    /// Sets the size of the page.
    ///
    /// # Errors
    /// If the browser is gone.
    pub async fn resize(&self, width: u32, height: u32) -> Result<(), CmdError> {
        self.client.set_window_size(width, height).await
    }

    /// Closes window and driver.
    ///
    /// # Errors
    /// If the browser is gone already.
    pub async fn close(self) -> Result<(), CmdError> {
        self.client.close().await
    }
}

/// Starts ChromeDriver on a port of its own choice.
///
/// It takes a free port for IPv4 and then the same for IPv6, where somebody else may hold it; it ends then, and is
/// started again.
async fn start_driver() -> Result<(Child, u16), Failed> {
    let mut ended = String::new();
    for _ in 0..DRIVER_STARTS {
        let mut driver = Command::new("chromedriver")
            .arg("--port=0")
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .kill_on_drop(true)
            .spawn()
            .map_err(|e| format!("chromedriver cannot be started ({e}); `cargo xtask test` installs it"))?;
        let out = driver.stdout.take().ok_or("chromedriver has no output")?;
        let mut complaints = driver.stderr.take().ok_or("chromedriver has no error output")?;
        let (said, port) = port_of(out).await?;
        if let Some(port) = port {
            // Keep reading, so that the driver never blocks on a full pipe.
            tokio::spawn(async move { tokio::io::copy(&mut complaints, &mut tokio::io::sink()).await });
            return Ok((driver, port));
        }
        let mut complaint = String::new();
        complaints.read_to_string(&mut complaint).await?;
        ended = format!("chromedriver ended before it listened ({}): {said}{complaint}", driver.wait().await?);
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
    Err(ended.into())
}

/// What a freshly started driver said until it named the port on which it listens, and the port: none if it ended.
async fn port_of(out: ChildStdout) -> Result<(String, Option<u16>), Failed> {
    let (mut lines, mut said) = (BufReader::new(out).lines(), String::new());
    while let Some(line) = lines.next_line().await? {
        if let Some(rest) = line.split("on port ").nth(1)
            && let Ok(port) = rest.trim().trim_end_matches('.').parse()
            && port != 0
        {
            tokio::spawn(async move { while let Ok(Some(_)) = lines.next_line().await {} });
            return Ok((said, Some(port)));
        }
        said.push_str(&line);
        said.push('\n');
    }
    Ok((said, None))
}
