//! Collection: what an API tells is fetched over HTTP and kept as files, from which a profile then makes a snapshot.
//!
//! A request that was answered in full is kept and not asked again, so that what was broken off goes on. The token comes from the
//! environment, is sent to the one origin that was named and nowhere else, and stands in no file, message or error.

mod client;

use client::{Client, Outcome, Unit, one};

use heronshale_intake::{
    BEGUN, COLLECTED, COLLECTION, Collected, KeptFile, LoadError, Missing, Profile, Request,
};
use serde_json::Value as Json;
use std::fmt;
use std::fs;
use std::io::Write;
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::time::{Duration, Instant};
use ureq::http::Uri;

/// Within what bounds is collected.
#[derive(Clone, Copy, Debug)]
pub struct Bounds {
    /// How many requests are under way at once.
    pub parallel: usize,
    /// How long an answer may take, its body included.
    pub answer: Duration,
    /// How long all of it may take.
    pub whole: Duration,
    /// How many bytes an answer may have.
    pub bytes: u64,
    /// How often a request is made before it counts as failed.
    pub tries: usize,
    /// How many pages a list may have.
    pub pages: usize,
}

impl Default for Bounds {
    fn default() -> Self {
        Self {
            parallel: 4,
            answer: Duration::from_secs(30),
            whole: Duration::from_secs(3_600),
            bytes: 64 << 20,
            tries: 6,
            pages: 100_000,
        }
    }
}

/// A token; it shows itself to nobody.
pub struct Token(String);

impl Token {
    /// Takes what the environment holds.
    pub fn new(text: String) -> Self {
        Self(text)
    }
}

impl fmt::Debug for Token {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a token")
    }
}

/// Why nothing could be collected, or not all.
#[derive(Debug)]
pub enum CollectError {
    /// The URL, or what is asked of it, is wrong: what, and what would be right.
    Use(String, String),
    /// A file could not be written or read.
    Io(String, std::io::Error),
    /// Something could not be fetched that the profile has no gap for.
    Missing(Vec<Missing>),
    /// A profile or an answer that cannot be used.
    Input(LoadError),
}

/// Asks what the profile says of `url`, and keeps the answers in `folder`.
///
/// # Errors
/// If the URL or the token cannot be used, a file cannot be written, or something cannot be fetched for which the profile names
/// no gap. What was answered is kept, so that the same call goes on.
pub fn collect(
    profile: &Profile,
    url: &str,
    token: Option<&Token>,
    folder: &Path,
    bounds: Bounds,
    now: &str,
    progress: &(dyn Fn(usize, usize) + Sync),
) -> Result<Collected, CollectError> {
    let plan = profile.plan();
    if plan.requests.is_empty() {
        let what = "the profile does not say what to ask".to_owned();
        return Err(CollectError::Use(
            what,
            "write it under `collect` in the profile".to_owned(),
        ));
    }
    let (origin, base) = origin_of(url, token.is_some())?;
    let header = match (&plan.token, token) {
        (Some(written), Some(token)) => Some((
            written.header.as_str(),
            written.text.replace("{token}", &token.0),
        )),
        _ => None,
    };
    let config = ureq::Agent::config_builder()
        .timeout_global(Some(bounds.answer))
        .max_redirects(0)
        .max_redirects_will_error(false)
        .http_status_as_error(false)
        .user_agent("heronshale")
        .tls_config(
            ureq::tls::TlsConfig::builder()
                .root_certs(roots(&origin))
                .build(),
        );
    let agent = ureq::Agent::new_with_config(config.build());
    let client = Client {
        agent,
        origin,
        base,
        header,
        bounds,
        start: Instant::now(),
        again: AtomicUsize::new(0),
    };
    fs::create_dir_all(folder)
        .map_err(|error| CollectError::Io(format!("cannot make {}", folder.display()), error))?;
    let mut all = Collected {
        format: COLLECTION.to_owned(),
        version: 1,
        url: client.origin.clone() + &client.base,
        taken: now.to_owned(),
        ..Collected::default()
    };
    check_folder(folder, &all.url)?;
    // Requests that follow from the answers to others come after them.
    for following in [false, true] {
        let mut units = Vec::new();
        for request in plan
            .requests
            .iter()
            .filter(|request| request.each.is_some() == following)
        {
            match &request.each {
                None => units.push(Unit {
                    request,
                    target: request.get.clone(),
                    file: format!("{}.jsonl", request.save),
                    object: request.gap.clone(),
                }),
                Some(_) => units.extend(following_units(profile, request, folder)?),
            }
        }
        run(&client, folder, &units, &mut all, progress)?;
        for unit in &units {
            let path = folder.join(&unit.file);
            match fs::read(&path) {
                Ok(bytes) => all.files.push(KeptFile::of(&unit.file, &bytes)),
                Err(error) if error.kind() == std::io::ErrorKind::NotFound => {}
                Err(error) => {
                    return Err(CollectError::Io(
                        format!("cannot read {}", path.display()),
                        error,
                    ));
                }
            }
        }
    }
    all.again = client.again.load(Ordering::Relaxed);
    let open: Vec<Missing> = all
        .missing
        .iter()
        .filter(|one| one.object.is_none())
        .cloned()
        .collect();
    if !open.is_empty() {
        return Err(CollectError::Missing(open));
    }
    let text = serde_json::to_string_pretty(&all).unwrap_or_default();
    keep(folder, COLLECTED, text.as_bytes())?;
    Ok(all)
}

/// Who is trusted: the certificates that the system trusts, which `SSL_CERT_FILE` may name, and the built-in ones.
fn roots(origin: &str) -> ureq::tls::RootCerts {
    use ureq::tls::{Certificate, RootCerts};
    if !origin.starts_with("https:") {
        return RootCerts::WebPki;
    }
    let system = rustls_native_certs::load_native_certs().certs;
    let built_in = webpki_root_certs::TLS_SERVER_ROOT_CERTS.iter();
    let owned = |bytes: &[u8]| Certificate::from_der(bytes).to_owned();
    RootCerts::Specific(std::sync::Arc::new(
        built_in.chain(&system).map(|one| owned(one)).collect(),
    ))
}

/// A folder holds the answers of one origin.
fn check_folder(folder: &Path, url: &str) -> Result<(), CollectError> {
    let path = folder.join(BEGUN);
    match fs::read_to_string(&path) {
        Ok(before) if before.trim() == url => Ok(()),
        Ok(before) => {
            let what = format!("{} holds answers of {}", folder.display(), before.trim());
            Err(CollectError::Use(what, "name another folder".to_owned()))
        }
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => {
            keep(folder, BEGUN, url.as_bytes())
        }
        Err(error) => Err(CollectError::Io(
            format!("cannot read {}", path.display()),
            error,
        )),
    }
}

/// Scheme with host and port, and the path before every request's.
fn origin_of(url: &str, has_token: bool) -> Result<(String, String), CollectError> {
    let wrong = |what: &str, hint: &str| CollectError::Use(what.to_owned(), hint.to_owned());
    let uri: Uri = url.parse().map_err(|_| {
        wrong(
            "the URL cannot be read",
            "write https://HOST, or with a path",
        )
    })?;
    let (Some(scheme), Some(authority)) = (uri.scheme_str(), uri.authority()) else {
        return Err(wrong(
            "the URL names no host",
            "write https://HOST, or with a path",
        ));
    };
    if authority.as_str().contains('@') {
        return Err(wrong(
            "a URL with a user name or password is not accepted",
            "secrets come from the environment: see `token` in the profile",
        ));
    }
    if !["http", "https"].contains(&scheme) {
        return Err(wrong(
            &format!("`{scheme}` is not asked"),
            "write https://HOST",
        ));
    }
    let host = authority.host().trim_matches(['[', ']']);
    let own = host == "localhost"
        || host
            .parse::<std::net::IpAddr>()
            .is_ok_and(|address| address.is_loopback());
    if scheme == "http" && has_token && !own {
        return Err(wrong(
            "the token would be sent unencrypted",
            "write https://HOST",
        ));
    }
    Ok((
        format!("{scheme}://{authority}"),
        uri.path().trim_end_matches('/').to_owned(),
    ))
}

/// The requests that follow from the answers to another.
fn following_units<'p>(
    profile: &'p Profile,
    request: &'p Request,
    folder: &Path,
) -> Result<Vec<Unit<'p>>, CollectError> {
    let filled = profile
        .following(request, folder)
        .map_err(CollectError::Input)?;
    let unit = |values: Vec<(String, String)>| {
        let fill = |text: &str, encode: bool| {
            values.iter().fold(text.to_owned(), |text, (name, value)| {
                let value = if encode {
                    encoded(value)
                } else {
                    value.clone()
                };
                text.replace(&format!("{{{name}}}"), &value)
            })
        };
        Unit {
            request,
            target: fill(&request.get, true),
            file: format!("{}.jsonl", fill(&request.save, true)),
            object: request.gap.as_ref().map(|gap| fill(gap, false)),
        }
    };
    Ok(filled.into_iter().map(unit).collect())
}

/// As a part of a path, of a URL or of a file: letters, digits, `-` and `_`, all else as %XX (RFC 3986, section 2.1).
fn encoded(text: &str) -> String {
    text.bytes().fold(String::new(), |mut out, byte| {
        if byte.is_ascii_alphanumeric() || matches!(byte, b'-' | b'_') {
            out.push(char::from(byte));
        } else {
            out.push_str(&format!("%{byte:02X}"));
        }
        out
    })
}

/// Writes a file whole or not at all.
fn keep(folder: &Path, name: &str, bytes: &[u8]) -> Result<(), CollectError> {
    let path = folder.join(name);
    let io = |error| CollectError::Io(format!("cannot write {}", path.display()), error);
    let parent = path.parent().unwrap_or(folder);
    fs::create_dir_all(parent).map_err(io)?;
    let part: PathBuf = folder.join(format!("{name}.part"));
    let mut file = fs::File::create(&part).map_err(io)?;
    file.write_all(bytes)
        .and_then(|()| file.sync_all())
        .map_err(io)?;
    fs::rename(&part, &path).map_err(io)
}

/// Makes requests, some at once.
fn run(
    client: &Client<'_>,
    folder: &Path,
    units: &[Unit<'_>],
    all: &mut Collected,
    progress: &(dyn Fn(usize, usize) + Sync),
) -> Result<(), CollectError> {
    let next = AtomicUsize::new(0);
    let done = AtomicUsize::new(0);
    let results: Mutex<Vec<(usize, Result<Outcome, CollectError>)>> = Mutex::new(Vec::new());
    std::thread::scope(|scope| {
        for _ in 0..client.bounds.parallel.clamp(1, 64).min(units.len().max(1)) {
            scope.spawn(|| {
                loop {
                    let at = next.fetch_add(1, Ordering::Relaxed);
                    let Some(unit) = units.get(at) else { return };
                    let result = one(client, folder, unit);
                    if let Ok(mut results) = results.lock() {
                        results.push((at, result));
                    }
                    progress(done.fetch_add(1, Ordering::Relaxed) + 1, units.len());
                }
            });
        }
    });
    let mut results = results.into_inner().unwrap_or_default();
    results.sort_by_key(|(at, _)| *at);
    for (_, result) in results {
        match result? {
            Outcome::Answered => all.answered += 1,
            Outcome::Kept => all.kept += 1,
            Outcome::Missing(missing) => all.missing.push(missing),
        }
    }
    Ok(())
}
