//! Live figures of hauls as OpenMetrics text, for the dashboards that people already have. Off unless asked for; on the
//! loopback unless another address is named.

use hollow_mile_core::drive::power;
use hollow_mile_core::quantity::text::named;
use std::fmt::Write as _;
use std::io::{Read, Write};
use std::net::{IpAddr, Ipv4Addr, SocketAddr, TcpListener, TcpStream};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, PoisonError};
use std::time::{Duration, Instant};

use hollow_mile_core::record::{Event, Sample};

use crate::error::AppError;

/// A client that says nothing for so long is let go.
const PATIENCE: Duration = Duration::from_secs(2);
/// Clients at once; one more is let go at the door.
const MOST_CLIENTS: usize = 64;
/// More than any request line of a scraper.
const MOST_REQUEST: usize = 8192;

/// What is told of one haul.
#[derive(Debug, Clone, Default)]
struct Told {
    labels: String,
    written: u64,
    read: u64,
    errors: u64,
    leg: u16,
    running: bool,
    last: Option<Sample>,
    watts: Option<f64>,
}

/// Figures of all hauls of this program.
#[derive(Debug, Clone, Default)]
pub struct Metrics(Arc<Mutex<Vec<(String, Told)>>>);

/// Quotes, backslashes and line ends as the standard asks; other control characters are left out.
#[must_use]
pub fn escaped(text: &str) -> String {
    let mut out = String::new();
    for c in text.chars() {
        match c {
            '\\' => out.push_str("\\\\"),
            '"' => out.push_str("\\\""),
            '\n' => out.push_str("\\n"),
            c if c.is_control() => {}
            c => out.push(c),
        }
    }
    out
}

/// A metric: name without suffix, kind, unit (empty for none), what it is, and its value of a haul.
type Family = (&'static str, &'static str, &'static str, &'static str, fn(&Told) -> Option<f64>);

fn seconds(us: u32) -> f64 {
    f64::from(us) / 1e6
}

const FAMILIES: [Family; 12] = [
    ("hollow_mile_written_bytes", "counter", "bytes", "Bytes written.", |t| Some(t.written as f64)),
    ("hollow_mile_read_bytes", "counter", "bytes", "Bytes read.", |t| Some(t.read as f64)),
    ("hollow_mile_errors", "counter", "", "Operations that failed.", |t| Some(t.errors as f64)),
    ("hollow_mile_running", "gauge", "", "1 while the haul is under way.", |t| {
        Some(f64::from(u8::from(t.running)))
    }),
    ("hollow_mile_leg", "gauge", "", "Leg of the route, from 1.", |t| Some(f64::from(t.leg) + 1.0)),
    ("hollow_mile_elapsed_seconds", "gauge", "seconds", "Time since the haul began.", |t| {
        Some(t.last.as_ref()?.end.as_secs_f64())
    }),
    ("hollow_mile_rate_bytes_per_second", "gauge", "", "Mean rate of the newest interval.", |t| {
        Some(t.last.as_ref()?.rate().get())
    }),
    ("hollow_mile_latency_p99_seconds", "gauge", "seconds", "p99 latency of the newest interval.", |t| {
        Some(seconds(t.last.as_ref()?.latency?.p99_us))
    }),
    (
        "hollow_mile_latency_max_seconds",
        "gauge",
        "seconds",
        "Longest operation of the newest interval.",
        |t| Some(seconds(t.last.as_ref()?.latency?.max_us)),
    ),
    ("hollow_mile_power_watts", "gauge", "watts", "Power that the meters beside the drive tell.", |t| {
        t.watts
    }),
    ("hollow_mile_temperature_celsius", "gauge", "celsius", "Temperature of the drive.", |t| {
        Some(t.last.as_ref()?.temperature?.degrees())
    }),
    ("hollow_mile_fill_ratio", "gauge", "ratio", "Share of addresses that hold data.", |t| {
        Some(f64::from(t.last.as_ref()?.fill_ppm?) / 1e6)
    }),
];

impl Metrics {
    /// Takes what happened on a haul.
    pub fn take(&self, haul: &str, events: &[Event]) {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let at = all.iter().position(|(h, _)| h == haul).unwrap_or_else(|| {
            all.push((haul.to_owned(), Told { running: true, ..Told::default() }));
            all.len() - 1
        });
        let told = &mut all[at].1;
        for event in events {
            match event {
                Event::HaulStarted(head) => {
                    told.labels = format!(
                        "haul=\"{}\",drive=\"{}\",serial=\"{}\",model=\"{}\",route=\"{}\"",
                        escaped(haul),
                        escaped(&head.drive.target),
                        escaped(&head.drive.serial),
                        escaped(&head.drive.model),
                        escaped(&head.route.name)
                    );
                }
                Event::LegStarted { leg, .. } => told.leg = *leg,
                Event::Sample(s) => {
                    told.written += s.written.get();
                    told.read += s.read.get();
                    told.errors += u64::from(s.errors);
                    told.last = Some(s.clone());
                }
                Event::Meters { readings, .. } => told.watts = power(readings),
                Event::HaulEnded { .. } => told.running = false,
                _ => {}
            }
        }
    }

    /// All of it, after OpenMetrics 1.0.
    #[must_use]
    pub fn text(&self) -> String {
        let all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let mut out = String::new();
        for (name, kind, unit, help, of) in FAMILIES {
            let _ = writeln!(out, "# TYPE {name} {kind}");
            if !unit.is_empty() {
                let _ = writeln!(out, "# UNIT {name} {unit}");
            }
            let _ = writeln!(out, "# HELP {name} {help}");
            let suffix = if kind == "counter" { "_total" } else { "" };
            for (_, told) in all.iter().filter(|(_, t)| !t.labels.is_empty()) {
                if let Some(v) = of(told) {
                    let _ = writeln!(out, "{name}{suffix}{{{}}} {v}", told.labels);
                }
            }
        }
        out.push_str("# EOF\n");
        out
    }
}

/// An address: `9400` and `:9400` mean the loopback.
///
/// # Errors
/// When it is none.
pub fn address(text: &str) -> Result<SocketAddr, String> {
    if let Ok(port) = text.trim_start_matches(':').parse::<u16>() {
        return Ok(SocketAddr::new(IpAddr::V4(Ipv4Addr::LOCALHOST), port));
    }
    text.parse().map_err(|_| format!("\"{}\" is no address such as 127.0.0.1:9400 or 9400", named(text)))
}

/// Serves the figures until the program ends. The address it listens on, whose port is the system's choice when 0 was asked.
///
/// # Errors
/// When the address cannot be had.
pub fn serve(at: SocketAddr, metrics: Metrics) -> Result<SocketAddr, AppError> {
    let wrong = |e: std::io::Error| AppError::usage(format!("metrics cannot be served on {at}: {e}"));
    let listener = TcpListener::bind(at).map_err(wrong)?;
    let bound = listener.local_addr().map_err(wrong)?;
    std::thread::Builder::new()
        .name("metrics".into())
        .spawn(move || {
            let busy = Arc::new(AtomicUsize::new(0));
            for stream in listener.incoming().flatten() {
                // Each for a moment, and no more than so many at once: who hangs holds neither the haul nor other scrapers.
                if busy.fetch_add(1, Ordering::Relaxed) >= MOST_CLIENTS {
                    busy.fetch_sub(1, Ordering::Relaxed);
                    continue;
                }
                let (metrics, done) = (metrics.clone(), Done(busy.clone()));
                let _ = std::thread::Builder::new().name("scrape".into()).spawn(move || {
                    let _ = answer(stream, &metrics);
                    drop(done);
                });
            }
        })
        .map_err(wrong)?;
    Ok(bound)
}

/// A client that was served, or could not be.
struct Done(Arc<AtomicUsize>);

impl Drop for Done {
    fn drop(&mut self) {
        self.0.fetch_sub(1, Ordering::Relaxed);
    }
}

fn answer(mut stream: TcpStream, metrics: &Metrics) -> std::io::Result<()> {
    stream.set_read_timeout(Some(PATIENCE))?;
    stream.set_write_timeout(Some(PATIENCE))?;
    let begun = Instant::now();
    let mut request = Vec::new();
    let mut part = [0; 1024];
    while !request.windows(4).any(|w| w == b"\r\n\r\n")
        && request.len() < MOST_REQUEST
        && begun.elapsed() < PATIENCE
    {
        match stream.read(&mut part)? {
            0 => break,
            n => request.extend_from_slice(&part[..n]),
        }
    }
    let line = String::from_utf8_lossy(&request);
    let mut words = line.lines().next().unwrap_or_default().split(' ');
    let (method, path) = (words.next().unwrap_or_default(), words.next().unwrap_or_default());
    let path = path.split('?').next().unwrap_or_default();
    let (status, body) = match (method, path) {
        ("GET" | "HEAD", "/metrics") => ("200 OK", metrics.text()),
        ("GET" | "HEAD", _) => ("404 Not Found", "the figures are at /metrics\n".to_owned()),
        _ => ("405 Method Not Allowed", "GET only\n".to_owned()),
    };
    let kind = if status.starts_with("200") {
        "application/openmetrics-text; version=1.0.0; charset=utf-8"
    } else {
        "text/plain; charset=utf-8"
    };
    let head = format!(
        "HTTP/1.1 {status}\r\nContent-Type: {kind}\r\nContent-Length: {}\r\nConnection: close\r\n\r\n",
        body.len()
    );
    stream.write_all(head.as_bytes())?;
    if method != "HEAD" {
        stream.write_all(body.as_bytes())?;
    }
    stream.flush()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn addresses_without_a_host_are_the_loopback() {
        assert_eq!(address("9400").unwrap(), "127.0.0.1:9400".parse().unwrap());
        assert_eq!(address(":9400").unwrap(), "127.0.0.1:9400".parse().unwrap());
        assert_eq!(address("[::1]:9400").unwrap(), "[::1]:9400".parse().unwrap());
        assert!(address("everywhere").is_err());
    }

    #[test]
    fn names_from_drives_cannot_break_the_text() {
        assert_eq!(escaped("a\"b\\c\nd\u{1b}[2J"), "a\\\"b\\\\c\\nd[2J");
    }

    #[test]
    fn a_request_that_is_no_request_is_answered_and_a_silent_one_let_go() {
        let bound = serve("127.0.0.1:0".parse().unwrap(), Metrics::default()).unwrap();
        let ask = |text: &[u8]| {
            let mut stream = TcpStream::connect(bound).unwrap();
            stream.write_all(text).unwrap();
            let _ = stream.shutdown(std::net::Shutdown::Write);
            let mut out = String::new();
            let _ = stream.read_to_string(&mut out);
            out
        };
        assert!(ask(b"GET /metrics HTTP/1.1\r\n\r\n").ends_with("# EOF\n"));
        assert!(ask(b"POST / HTTP/1.1\r\n\r\n").starts_with("HTTP/1.1 405"));
        assert!(ask(&[0xff; 20_000]).starts_with("HTTP/1.1 405") || ask(b"").starts_with("HTTP/1.1 405"));
        assert!(ask(b"GET /metrics HTTP/1.1\r\n\r\n").ends_with("# EOF\n"));
        // Behind ten that say nothing a scraper is served all the same, and the hundred that come then are let go.
        let silent: Vec<TcpStream> = (0..10).map(|_| TcpStream::connect(bound).unwrap()).collect();
        assert!(ask(b"GET /metrics HTTP/1.1\r\n\r\n").ends_with("# EOF\n"));
        for stream in &silent {
            stream.set_nonblocking(true).unwrap();
            let still = (&mut &*stream).read(&mut [0; 1]);
            assert_eq!(
                still.unwrap_err().kind(),
                std::io::ErrorKind::WouldBlock,
                "it was served before them"
            );
        }
        let crowd: Vec<TcpStream> = (0..100).filter_map(|_| TcpStream::connect(bound).ok()).collect();
        drop((silent, crowd));
        // Their seats are free once each was noticed to have gone.
        let free = || ask(b"GET /metrics HTTP/1.1\r\n\r\n").ends_with("# EOF\n");
        assert!((0..200).any(|_| free() || {
            std::thread::sleep(Duration::from_millis(50));
            false
        }));
    }
}
