//! One request, its tries and its pages.

use super::*;

pub(super) struct Client<'c> {
    pub(super) agent: ureq::Agent,
    pub(super) origin: String,
    pub(super) base: String,
    pub(super) header: Option<(&'c str, String)>,
    pub(super) bounds: Bounds,
    pub(super) start: Instant,
    pub(super) again: AtomicUsize,
}

impl Client<'_> {
    /// The target of a link to the next page; it has to stay with the origin.
    pub(super) fn within(&self, link: &str, here: &str) -> Result<String, String> {
        if let Some(query) = link.strip_prefix('?') {
            let path = here.split('?').next().unwrap_or(here);
            return Ok(format!("{path}?{query}"));
        }
        if link.starts_with('/') && !link.starts_with("//") {
            return Ok(link.to_owned());
        }
        let inside = link
            .strip_prefix(self.origin.as_str())
            .filter(|rest| rest.starts_with('/'));
        inside
            .map(str::to_owned)
            .ok_or_else(|| "its next page is on another host, which is not asked".to_owned())
    }

    /// An answer, after several tries if need be.
    pub(super) fn ask(&self, target: &str) -> Result<Json, String> {
        let mut tried = 0;
        loop {
            tried += 1;
            let failed = match self.ask_once(target) {
                Ok(answer) => return Ok(answer),
                Err(failed) => failed,
            };
            if !failed.again {
                return Err(failed.why);
            }
            if tried >= self.bounds.tries {
                return Err(format!("{} ({tried} tries)", failed.why));
            }
            let pause = pause(tried).max(failed.after.unwrap_or_default().min(LONGEST_WISH));
            if self.start.elapsed() + pause >= self.bounds.whole {
                return Err(format!("{}; the time limit is reached", failed.why));
            }
            self.again.fetch_add(1, Ordering::Relaxed);
            std::thread::sleep(pause);
        }
    }

    pub(super) fn ask_once(&self, target: &str) -> Result<Json, Failed> {
        if self.start.elapsed() >= self.bounds.whole {
            return Err(Failed::for_good("the time limit is reached"));
        }
        let retry = |why: String, after| Failed {
            why,
            again: true,
            after,
        };
        let mut request = self
            .agent
            .get(format!("{}{target}", self.origin))
            .header("accept", "application/json");
        if let Some((name, value)) = &self.header {
            request = request.header(*name, value.as_str());
        }
        let mut response = match request.call() {
            Ok(response) => response,
            Err(ureq::Error::Timeout(_)) => {
                return Err(retry("no answer in time".to_owned(), None));
            }
            Err(ureq::Error::HostNotFound) => {
                return Err(Failed::for_good("the host is unknown"));
            }
            Err(ureq::Error::BadUri(_) | ureq::Error::Http(_)) => {
                return Err(Failed::for_good("it cannot be asked"));
            }
            Err(error) => return Err(retry(self.harmless(&error.to_string()), None)),
        };
        let status = response.status().as_u16();
        match status {
            200 => {}
            300..=399 => {
                return Err(Failed::for_good("it redirects, which is not followed"));
            }
            408 | 425 | 429 | 500 | 502..=504 => {
                let after = response
                    .headers()
                    .get("retry-after")
                    .and_then(|value| value.to_str().ok());
                let after = after
                    .and_then(|text| text.trim().parse().ok())
                    .map(Duration::from_secs);
                return Err(retry(format!("status {status}"), after));
            }
            401 => {
                return Err(Failed::for_good(
                    "status 401: the token is missing or wrong",
                ));
            }
            403 => return Err(Failed::for_good("status 403: not allowed")),
            404 => return Err(Failed::for_good(ABSENT)),
            _ => return Err(Failed::for_good(format!("status {status}"))),
        }
        let kind = response
            .headers()
            .get("content-type")
            .and_then(|value| value.to_str().ok());
        let kind = kind.unwrap_or("without a content type").to_owned();
        let bytes = match response
            .body_mut()
            .with_config()
            .limit(self.bounds.bytes)
            .read_to_vec()
        {
            Ok(bytes) => bytes,
            Err(ureq::Error::BodyExceedsLimit(_)) => {
                let why = format!("the answer has more than {} MiB", self.bounds.bytes >> 20);
                return Err(Failed::for_good(why));
            }
            Err(ureq::Error::Timeout(_)) => {
                return Err(retry("the answer did not end in time".to_owned(), None));
            }
            Err(error) => return Err(retry(self.harmless(&error.to_string()), None)),
        };
        serde_json::from_slice(&bytes).map_err(|_| {
            const SHOWN: usize = 40;
            let begin: String = String::from_utf8_lossy(&bytes)
                .chars()
                .take(SHOWN)
                .collect();
            let begin = self.harmless(&begin.escape_debug().to_string());
            retry(
                format!("the answer is no JSON: {kind}, beginning with `{begin}`"),
                None,
            )
        })
    }

    /// An error of others, without the token, should it ever stand there.
    pub(super) fn harmless(&self, text: &str) -> String {
        match &self.header {
            Some((_, value)) => text.replace(value.as_str(), "…"),
            None => text.to_owned(),
        }
    }
}

/// Why a request has no answer, in words; whether to try again, and after how long at least.
pub(super) struct Failed {
    pub(super) why: String,
    pub(super) again: bool,
    pub(super) after: Option<Duration>,
}

impl Failed {
    pub(super) fn for_good(why: impl Into<String>) -> Self {
        Self {
            why: why.into(),
            again: false,
            after: None,
        }
    }
}

/// No server is waited for longer than this, whatever it wishes.
pub(super) const LONGEST_WISH: Duration = Duration::from_secs(60);

/// How long to wait after a try: twice as long each time, between half and all of it by chance, so that many do not come back
/// at once.
pub(super) fn pause(tried: usize) -> Duration {
    const FIRST: u64 = 100;
    const LONGEST: u64 = 10_000;
    let full = FIRST.saturating_mul(1 << tried.min(10)).min(LONGEST);
    Duration::from_millis(full / 2 + fastrand::u64(0..=full / 2))
}

/// One request to make.
pub(super) struct Unit<'p> {
    pub(super) request: &'p Request,
    pub(super) target: String,
    /// The file that keeps the answer, in the folder.
    pub(super) file: String,
    pub(super) object: Option<String>,
}

/// What came of a request.
pub(super) enum Outcome {
    Answered,
    /// It was answered before.
    Kept,
    Missing(Missing),
}

/// Makes one request, page by page.
pub(super) fn one(
    client: &Client<'_>,
    folder: &Path,
    unit: &Unit<'_>,
) -> Result<Outcome, CollectError> {
    if folder.join(&unit.file).exists() {
        return Ok(Outcome::Kept);
    }
    let missing = |why: String| {
        let (object, lacks) = (unit.object.clone(), unit.request.lacks.clone());
        Ok(Outcome::Missing(Missing {
            request: unit.target.clone(),
            why,
            object,
            lacks,
        }))
    };
    let mut lines = Vec::new();
    let mut target = client.base.clone() + &unit.target;
    let mut asked: Vec<String> = Vec::new();
    loop {
        if asked.contains(&target) {
            return missing("its pages lead back to an earlier page".to_owned());
        }
        if asked.len() >= client.bounds.pages {
            return missing(format!("it has more than {} pages", client.bounds.pages));
        }
        asked.push(target.clone());
        let page = match client.ask(&target) {
            Ok(page) => page,
            // An API without the extension has none of it.
            Err(why) if unit.request.extension && why == ABSENT && asked.len() == 1 => {
                serde_json::json!({})
            }
            Err(why) if asked.len() > 1 => return missing(format!("page {}: {why}", asked.len())),
            Err(why) => return missing(why),
        };
        if serde_json::to_writer(&mut lines, &page).is_err() {
            return missing("its answer cannot be kept".to_owned());
        }
        lines.push(b'\n');
        match unit.request.next_page(&page) {
            None => break,
            Some(next) => match client.within(&next, &target) {
                Ok(next) => target = next,
                Err(why) => return missing(why),
            },
        }
    }
    keep(folder, &unit.file, &lines)?;
    Ok(Outcome::Answered)
}

/// Why there is no answer where an API has no such thing.
pub(super) const ABSENT: &str = "status 404";
