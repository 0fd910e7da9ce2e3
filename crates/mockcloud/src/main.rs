//! Runs Skerry, the simulated cloud: it answers over HTTP, or writes what it tells as exports.

use heronshale_mockcloud::{Cloud, Faults, PROFILE, serve};
use std::io::Write;
use std::path::Path;
use std::process::ExitCode;

const HELP: &str = "\
Skerry, a simulated cloud that tells of the demo estate

  heronshale-mockcloud --save FOLDER   write its collections as FOLDER/exports/NAME.json, one document each, and
                                       the profile by which they are read as FOLDER/skerry.yaml
  heronshale-mockcloud --port PORT     serve it at http://127.0.0.1:PORT/v1, for the token in SKERRY_TOKEN
                       --faults        slow, failing, limiting, cutting answers short, as clouds do at times
";

fn main() -> ExitCode {
    let arguments: Vec<String> = std::env::args().skip(1).collect();
    let result = match arguments.iter().map(String::as_str).collect::<Vec<_>>()[..] {
        ["--save", folder] => save(Path::new(folder)),
        ["--port", port] => run(port, Faults::default()),
        ["--port", port, "--faults"] => run(port, Faults::all()),
        _ => {
            print!("{HELP}");
            return ExitCode::from(2);
        }
    };
    match result {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => {
            eprintln!("error: {error}");
            ExitCode::from(4)
        }
    }
}

fn save(folder: &Path) -> std::io::Result<()> {
    let exports = folder.join("exports");
    std::fs::create_dir_all(exports.join("crews"))?;
    std::fs::File::create_new(folder.join("skerry.yaml"))?.write_all(PROFILE.as_bytes())?;
    for (name, document) in Cloud::marrowfen().documents() {
        let mut file = std::fs::File::create_new(exports.join(format!("{name}.json")))?;
        serde_json::to_writer_pretty(&mut file, &document)?;
    }
    Ok(())
}

/// Serves until somebody ends it.
fn run(port: &str, faults: Faults) -> std::io::Result<()> {
    let port = port
        .parse()
        .map_err(|_| std::io::Error::other(format!("`{port}` is not a port")))?;
    let token = std::env::var("SKERRY_TOKEN")
        .map_err(|_| std::io::Error::other("set SKERRY_TOKEN to the token that it asks for"))?;
    let server = serve(Cloud::marrowfen(), port, token, faults)?;
    println!("Skerry answers at {}/v1; end it with Ctrl-C", server.url());
    server.wait();
    Ok(())
}
