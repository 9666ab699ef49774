//! A server that answers as a test wants it to, and images for it.

#![expect(clippy::unwrap_used, reason = "a test that fails says where")]

pub(crate) mod image;
pub(crate) mod tunnel;

use std::collections::BTreeMap;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::{TcpListener, TcpStream};
use std::sync::{Arc, Mutex};

/// What was asked.
#[derive(Clone, Debug, Default)]
pub(crate) struct Request {
    pub(crate) method: String,
    /// With what follows `?`.
    pub(crate) path: String,
    /// Names in lower case.
    pub(crate) headers: BTreeMap<String, String>,
    pub(crate) body: String,
}

/// What is answered.
pub(crate) struct Answer {
    pub(crate) status: u16,
    pub(crate) headers: Vec<(String, String)>,
    pub(crate) body: Vec<u8>,
    /// What `Content-Length` claims, where that is not true.
    pub(crate) claimed: Option<usize>,
}

impl Answer {
    pub(crate) fn new(status: u16, body: impl Into<Vec<u8>>) -> Self {
        Self { status, headers: Vec::new(), body: body.into(), claimed: None }
    }

    pub(crate) fn with(mut self, name: &str, value: &str) -> Self {
        self.headers.push((name.to_owned(), value.to_owned()));
        self
    }
}

type Answering = dyn Fn(&Request) -> Answer + Send + Sync;

/// A server on a port of this machine; its thread ends with the tests.
pub(crate) struct StandIn {
    /// `127.0.0.1:PORT`
    pub(crate) host: String,
    asked: Arc<Mutex<Vec<Request>>>,
}

impl StandIn {
    pub(crate) fn answering(answer: impl Fn(&Request) -> Answer + Send + Sync + 'static) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let host = listener.local_addr().unwrap().to_string();
        let asked: Arc<Mutex<Vec<Request>>> = Arc::default();
        let (log, answer): (_, Arc<Answering>) = (asked.clone(), Arc::new(answer));
        std::thread::spawn(move || {
            for stream in listener.incoming().flatten() {
                let (log, answer) = (log.clone(), answer.clone());
                // A client that goes away is no mistake of the server.
                std::thread::spawn(move || drop(serve(&stream, &log, &*answer)));
            }
        });
        Self { host, asked }
    }

    /// Every request so far, as `METHOD PATH`.
    pub(crate) fn asked(&self) -> Vec<String> {
        self.requests().iter().map(|one| format!("{} {}", one.method, one.path)).collect()
    }

    pub(crate) fn requests(&self) -> Vec<Request> {
        self.asked.lock().unwrap().clone()
    }

    /// The place that a test names.
    pub(crate) fn place(&self) -> String {
        format!("registry:http://{}", self.host)
    }
}

fn serve(stream: &TcpStream, log: &Mutex<Vec<Request>>, answer: &Answering) -> std::io::Result<()> {
    let mut input = BufReader::new(stream);
    let mut line = String::new();
    input.read_line(&mut line)?;
    let mut words = line.split_whitespace().map(str::to_owned);
    let mut request = Request {
        method: words.next().unwrap_or_default(),
        path: words.next().unwrap_or_default(),
        ..Request::default()
    };
    loop {
        line.clear();
        input.read_line(&mut line)?;
        let Some((name, value)) = line.trim().split_once(':') else { break };
        request.headers.insert(name.to_lowercase(), value.trim().to_owned());
    }
    let length = request.headers.get("content-length").and_then(|text| text.parse().ok()).unwrap_or(0);
    input.take(length).read_to_string(&mut request.body)?;
    log.lock().unwrap().push(request.clone());
    let answer = answer(&request);
    let mut out = stream;
    let length = answer.claimed.unwrap_or(answer.body.len());
    write!(out, "HTTP/1.1 {} x\r\ncontent-length: {length}\r\nconnection: close\r\n", answer.status)?;
    for (name, value) in &answer.headers {
        write!(out, "{name}: {value}\r\n")?;
    }
    out.write_all(b"\r\n")?;
    if request.method != "HEAD" {
        out.write_all(&answer.body)?;
    }
    Ok(())
}
