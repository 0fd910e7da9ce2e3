//! Skerry over HTTP: lists in pages, a token, and at will the faults that clouds have.

use crate::Cloud;
use serde_json::{Value, json};
use std::collections::BTreeMap;
use std::io::Read;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};
use std::thread::JoinHandle;
use std::time::Duration;
use tiny_http::{Header, Request, Response};

/// How many items a page has.
const PAGE: usize = 20;
/// How many answers are given at once.
const WORKERS: usize = 16;

/// What goes wrong.
#[derive(Clone, Debug, Default)]
pub struct Faults {
    /// Of so many requests for one thing the first are refused with 503.
    pub failing: usize,
    /// Of so many the next are refused with 429, to be asked again after a second.
    pub limited: usize,
    /// Of so many the next are cut short.
    pub cut: usize,
    /// Of so many the next are no JSON.
    pub garbled: usize,
    /// Each answer takes so long.
    pub slow: Duration,
    /// What is refused for good, by the path behind `/v1`.
    pub refused: Vec<String>,
    /// What is answered without an end.
    pub endless: Vec<String>,
    /// What is never answered.
    pub silent: Vec<String>,
    /// What leads to another host, by a redirect.
    pub elsewhere: Vec<String>,
    /// Whose next page is at another host.
    pub strays: Vec<String>,
}

impl Faults {
    /// What passes by itself, each once.
    pub fn all() -> Self {
        Self {
            failing: 1,
            limited: 1,
            cut: 1,
            garbled: 1,
            slow: Duration::from_millis(50),
            ..Self::default()
        }
    }
}

/// A running Skerry; it ends with its owner.
pub struct Server {
    inner: Arc<tiny_http::Server>,
    ended: Arc<AtomicBool>,
    workers: Vec<JoinHandle<()>>,
    log: Arc<Mutex<Vec<String>>>,
    port: u16,
}

/// Serves a cloud on the loopback address; port 0 takes a free one.
///
/// # Errors
/// If the port is not free.
pub fn serve(cloud: Cloud, port: u16, token: String, faults: Faults) -> std::io::Result<Server> {
    let inner = tiny_http::Server::http(("127.0.0.1", port)).map_err(std::io::Error::other)?;
    let port = inner
        .server_addr()
        .to_ip()
        .map_or(port, |address| address.port());
    let inner = Arc::new(inner);
    let ended = Arc::new(AtomicBool::new(false));
    let log = Arc::new(Mutex::new(Vec::new()));
    let asked = Arc::new(Mutex::new(BTreeMap::new()));
    let shared = Arc::new((cloud, token, faults));
    let workers = (0..WORKERS).map(|_| {
        let (inner, ended, log, asked, shared) = (
            inner.clone(),
            ended.clone(),
            log.clone(),
            asked.clone(),
            shared.clone(),
        );
        std::thread::spawn(move || {
            while !ended.load(Ordering::Relaxed) {
                if let Ok(Some(request)) = inner.recv_timeout(Duration::from_millis(50)) {
                    if let Ok(mut log) = log.lock() {
                        log.push(request.url().to_owned());
                    }
                    answer(&shared, request, &asked, &ended);
                }
            }
        })
    });
    Ok(Server {
        workers: workers.collect(),
        inner,
        ended,
        log,
        port,
    })
}

impl Server {
    /// Where it answers, without `/v1`.
    pub fn url(&self) -> String {
        format!("http://127.0.0.1:{}", self.port)
    }

    /// The targets that were asked, in order.
    pub fn asked(&self) -> Vec<String> {
        self.log.lock().map(|log| log.clone()).unwrap_or_default()
    }

    /// Serves until the program is ended.
    pub fn wait(mut self) {
        for worker in self.workers.drain(..) {
            let _ = worker.join();
        }
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        self.ended.store(true, Ordering::Relaxed);
        self.inner.unblock();
        for worker in self.workers.drain(..) {
            let _ = worker.join();
        }
    }
}

/// A body without an end.
struct Endless<'e>(&'e AtomicBool);

impl Read for Endless<'_> {
    fn read(&mut self, into: &mut [u8]) -> std::io::Result<usize> {
        if self.0.load(Ordering::Relaxed) {
            return Ok(0);
        }
        into.fill(b' ');
        Ok(into.len())
    }
}

fn header(name: &str, value: &str) -> Header {
    Header::from_bytes(name, value).expect("headers here are ASCII")
}

fn refuse(request: Request, status: u16, headers: Vec<Header>) {
    let body = json!({ "error": status }).to_string();
    let response = headers.into_iter().fold(
        Response::from_string(body).with_status_code(status),
        Response::with_header,
    );
    let _ = request.respond(response);
}

fn answer(
    shared: &(Cloud, String, Faults),
    request: Request,
    asked: &Mutex<BTreeMap<String, usize>>,
    ended: &AtomicBool,
) {
    let (cloud, token, faults) = shared;
    let target = request.url().to_owned();
    let given = request
        .headers()
        .iter()
        .find(|header| header.field.equiv("authorization"));
    if given.is_none_or(|header| header.value.as_str() != format!("Bearer {token}")) {
        return refuse(request, 401, Vec::new());
    }
    std::thread::sleep(faults.slow);
    let Some(path) = target.strip_prefix("/v1/") else {
        return refuse(request, 404, Vec::new());
    };
    let (name, query) = path.split_once('?').unwrap_or((path, ""));
    let is = |all: &[String]| all.iter().any(|one| one == name);
    if is(&faults.refused) {
        return refuse(request, 403, Vec::new());
    }
    if is(&faults.elsewhere) {
        return refuse(
            request,
            302,
            vec![header("location", "http://203.0.113.250/v1/nets")],
        );
    }
    if is(&faults.silent) {
        while !ended.load(Ordering::Relaxed) {
            std::thread::sleep(Duration::from_millis(20));
        }
        return;
    }
    if is(&faults.endless) {
        let body = Endless(ended);
        let _ = request.respond(Response::new(200.into(), Vec::new(), body, None, None));
        return;
    }
    let before = asked.lock().map_or(0, |mut asked| {
        let count = asked.entry(target.clone()).or_default();
        *count += 1;
        *count - 1
    });
    let (failing, limited) = (faults.failing, faults.failing + faults.limited);
    let (cut, garbled) = (limited + faults.cut, limited + faults.cut + faults.garbled);
    if before < failing {
        return refuse(request, 503, Vec::new());
    }
    if before < limited {
        return refuse(request, 429, vec![header("retry-after", "1")]);
    }
    let Some(mut document) = document(cloud, name, query) else {
        return refuse(request, 404, Vec::new());
    };
    if is(&faults.strays) {
        document["next"] = "http://203.0.113.250/v1/nets?page=2".into();
    }
    let text = document.to_string();
    if before < cut {
        // Fewer bytes come than were announced.
        let short = text.as_bytes()[..text.len() / 2].to_vec();
        let response = Response::new(
            200.into(),
            Vec::new(),
            std::io::Cursor::new(short),
            Some(text.len()),
            None,
        );
        let _ = request.respond(response);
        return;
    }
    let text = if before < garbled {
        text[..text.len() / 2].to_owned()
    } else {
        text
    };
    let _ = request.respond(
        Response::from_string(text).with_header(header("content-type", "application/json")),
    );
}

/// What is told of a path behind `/v1/`.
fn document(cloud: &Cloud, name: &str, query: &str) -> Option<Value> {
    if name == "account" {
        return Some(cloud.account.clone());
    }
    if let Some(reference) = name.strip_prefix("crews/") {
        return cloud.crew(reference).cloned();
    }
    let items = cloud.items(name)?;
    let page: usize = query
        .strip_prefix("page=")
        .map_or(Some(1), |page| page.parse().ok())?;
    let from = page.checked_sub(1)? * PAGE;
    let some: Vec<&Value> = items.iter().skip(from).take(PAGE).collect();
    let next = (from + PAGE < items.len()).then(|| format!("/v1/{name}?page={}", page + 1));
    Some(json!({ "kind": name, "count": items.len(), "items": some, "next": next }))
}
