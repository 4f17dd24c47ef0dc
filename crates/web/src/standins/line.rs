//! The line from the gateway up: HTTP to Ebrel, or MQTT to a broker.

use anyhow::{anyhow, bail};
use ebrel_app::receiving::Receipt;
use rumqttc::{AsyncClient, Event, EventLoop, Incoming, MqttOptions, QoS};
use std::time::Duration;
use url::Url;

/// How long an answer may take.
const PATIENCE: Duration = Duration::from_secs(20);

/// What became of a parcel.
#[derive(Debug, Clone, PartialEq)]
pub enum Sent {
    /// It is kept above; over HTTP with what became of its readings.
    Confirmed(Option<Receipt>),
    /// It will never be taken, and why.
    Refused(String),
    /// Not now, and why: it is to be sent again.
    Later(String),
}

/// A way up.
pub enum Line {
    /// To Ebrel itself.
    Http {
        /// Holds the connection.
        client: reqwest::Client,
        /// Where Ebrel is.
        base: Url,
        /// The gateway's key.
        key: String,
    },
    /// To a broker.
    Mqtt {
        /// Hands messages to the connection.
        client: AsyncClient,
        /// Hears what the broker answers.
        events: Box<EventLoop>,
        /// The topic, with a `+` in the place of the node's number.
        topic: String,
    },
}

impl Line {
    /// A line to Ebrel.
    ///
    /// # Errors
    /// If the address is none.
    pub fn http(base: &str, key: String) -> anyhow::Result<Self> {
        let base = Url::parse(base)
            .map_err(|e| anyhow!("“{base}” is no address ({e}): write it like http://127.0.0.1:8417"))?;
        if base.scheme() != "http" {
            bail!("the stand-ins speak plain HTTP: to {base} they cannot send");
        }
        Ok(Self::Http { client: reqwest::Client::builder().timeout(PATIENCE).build()?, base, key })
    }

    /// A line to a broker.
    ///
    /// # Errors
    /// If the address or the topic is none.
    pub fn mqtt(url: &str, topic: String) -> anyhow::Result<Self> {
        let mut url = Url::parse(url).map_err(|e| anyhow!("the broker's address is none ({e})"))?;
        if !topic.split('/').any(|level| level == "+") {
            bail!("the topic “{topic}” has no + where the node's number stands");
        }
        if !url.query_pairs().any(|(name, _)| name == "client_id") {
            url.query_pairs_mut().append_pair("client_id", &format!("stand-ins-{}", std::process::id()));
        }
        let mut options =
            MqttOptions::parse_url(url.as_str()).map_err(|e| anyhow!("the broker's address is none ({e})"))?;
        options.set_keep_alive(PATIENCE).set_max_packet_size(64 * 1024, ebrel_formats::message::MOST_SENT);
        let (client, events) = AsyncClient::new(options, 8);
        Ok(Self::Mqtt { client, events: Box::new(events), topic })
    }

    /// Sends a message of a node, and says what became of it.
    pub async fn send(&mut self, node: i64, message: &str) -> Sent {
        match self {
            Self::Http { client, base, key } => {
                let address = format!("{}/api/v1/nodes/{node}/readings", base.as_str().trim_end_matches('/'));
                let request = client.post(address).bearer_auth(&*key).header("content-type", "text/csv");
                match request.body(message.to_owned()).send().await {
                    Ok(answer) => answered(answer).await,
                    Err(error) => Sent::Later(error.to_string()),
                }
            }
            Self::Mqtt { client, events, topic } => {
                let own = topic.split('/').map(|l| if l == "+" { node.to_string() } else { l.to_owned() });
                let own = own.collect::<Vec<_>>().join("/");
                if let Err(error) = client.publish(own, QoS::AtLeastOnce, false, message.to_owned()).await {
                    return Sent::Later(error.to_string());
                }
                let confirmed = async {
                    loop {
                        match events.poll().await {
                            Ok(Event::Incoming(Incoming::PubAck(_))) => return Sent::Confirmed(None),
                            Ok(_) => {}
                            Err(error) => return Sent::Later(error.to_string()),
                        }
                    }
                };
                let late = |_| Sent::Later("the broker does not answer".to_owned());
                tokio::time::timeout(PATIENCE, confirmed).await.unwrap_or_else(late)
            }
        }
    }
}

/// What an answer of Ebrel says. A wrong key is somebody's to mend, and the parcel waits for it.
async fn answered(answer: reqwest::Response) -> Sent {
    let status = answer.status();
    let text = answer.text().await.unwrap_or_default();
    if status.is_success() {
        return match serde_json::from_str(&text) {
            Ok(receipt) => Sent::Confirmed(Some(receipt)),
            Err(error) => Sent::Later(format!("the answer cannot be read: {error}")),
        };
    }
    let told: serde_json::Value = serde_json::from_str(&text).unwrap_or_default();
    let why = told["detail"].as_str().map_or_else(|| status.to_string(), str::to_owned);
    match status.as_u16() {
        400 | 413 | 415 => Sent::Refused(why),
        _ => Sent::Later(why),
    }
}
