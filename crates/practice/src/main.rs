//! `ordotaxis-practice`: serves the practice forge, the practice mail sink or a practice host on loopback until interrupted.

use clap::{Parser, Subcommand};
use ordotaxis_practice::{Cloud, Dialect, Forge, Host, Processes, Sink, Trouble, Weather};
use std::net::SocketAddr;
use std::path::{Path, PathBuf};
use std::process::ExitCode;

#[derive(Parser)]
#[command(name = "ordotaxis-practice", about = "Stand-ins for the outside world, for practice and tests")]
struct Options {
    #[command(subcommand)]
    what: What,
}

#[derive(Subcommand)]
enum What {
    /// A small forge: bare repositories over HTTP, signed webhooks, commit statuses
    Forge {
        #[arg(long, default_value = "127.0.0.1:7080")]
        listen: SocketAddr,
        #[arg(long, default_value = "./practice-forge")]
        data: PathBuf,
        /// How it speaks: each dialect has a profile of its name
        #[arg(long, value_enum, default_value_t = Dialect::Practice)]
        dialect: Dialect,
    },
    /// A mail server that keeps what it is given, and a page that shows it
    Mail {
        #[arg(long, default_value = "127.0.0.1:7025")]
        listen: SocketAddr,
        #[arg(long, default_value = "127.0.0.1:7090")]
        page: SocketAddr,
        #[arg(long, default_value = "./practice-mail")]
        data: PathBuf,
    },
    /// A machine that software is put on: takes a bundle, starts it as a process, answers with what that says of itself
    Host {
        /// What it is called, as it says itself
        name: String,
        #[arg(long, default_value = "127.0.0.1:8301")]
        listen: SocketAddr,
        #[arg(long, default_value = "./practice-host")]
        data: PathBuf,
        /// Who puts something on it must bring this
        #[arg(long, env = "PRACTICE_HOST_KEY", hide_env_values = true)]
        key: Option<String>,
    },
    /// A cloud: makes machines that are processes, with a delay, a quota, and all that goes wrong
    Cloud {
        #[arg(long, default_value = "127.0.0.1:7060")]
        listen: SocketAddr,
        #[arg(long, default_value = "./practice-cloud")]
        data: PathBuf,
        /// The `ordotaxis` that its machines run
        #[arg(long, default_value = "ordotaxis")]
        program: PathBuf,
        /// How long a machine takes to start, in milliseconds
        #[arg(long, default_value_t = 1000)]
        start_ms: u64,
        /// Machines at the same time
        #[arg(long)]
        quota: Option<u32>,
    },
    /// Put a file on a practice host
    Bundle {
        file: PathBuf,
        #[arg(long, default_value = "http://127.0.0.1:8301")]
        host: String,
        #[arg(long, env = "PRACTICE_HOST_KEY", hide_env_values = true)]
        key: Option<String>,
    },
    /// Tell a practice host how to misbehave from now on
    Act {
        #[arg(value_enum)]
        trouble: Trouble,
        #[arg(long, default_value = "http://127.0.0.1:8301")]
        host: String,
    },
    /// What a practice host starts: the process that a bundle is
    #[command(hide = true)]
    Runs { name: String, bundle: PathBuf },
    /// Make a repository on a running practice forge, or set where its webhooks go; prints it as JSON
    Repository {
        name: String,
        #[arg(long, default_value = "http://127.0.0.1:7080")]
        forge: String,
        #[arg(long, requires = "secret")]
        hook: Option<String>,
        #[arg(long)]
        secret: Option<String>,
    },
    /// Offer a branch to another one; prints the proposal as JSON
    Propose {
        repository: String,
        #[arg(long, default_value = "http://127.0.0.1:7080")]
        forge: String,
        #[arg(long)]
        source: String,
        #[arg(long, default_value = "main")]
        target: String,
        #[arg(long)]
        title: String,
        /// As if it came from another repository
        #[arg(long)]
        outside: bool,
        /// Who offers it; whoever made its commit when absent
        #[arg(long, default_value = "")]
        by: String,
    },
    /// Approve a proposal, or refuse it
    Review {
        repository: String,
        number: usize,
        #[arg(long, default_value = "http://127.0.0.1:7080")]
        forge: String,
        #[arg(long)]
        by: String,
        #[arg(long)]
        approve: bool,
    },
}

#[tokio::main]
async fn main() -> ExitCode {
    let _ = rustls::crypto::ring::default_provider().install_default();
    tracing_subscriber::fmt().with_writer(std::io::stderr).init();
    let done = match Options::parse().what {
        What::Forge { listen, data, dialect } => serve(listen, data, dialect).await,
        What::Mail { listen, page, data } => mail(listen, page, data).await,
        What::Host { name, listen, data, key } => host(&name, listen, data, key).await,
        What::Cloud { listen, data, program, start_ms, quota } => {
            cloud(listen, data, program, Weather { start_ms, quota, ..Weather::default() }).await
        }
        What::Bundle { file, host, key } => bundle(&file, &host, key).await,
        What::Act { trouble, host } => act(&host, trouble).await,
        What::Runs { name, bundle } => ordotaxis_practice::run(&name, &bundle).await.map_err(Into::into),
        What::Review { repository, number, forge, by, approve } => {
            let ask = serde_json::json!({ "by": by, "approves": approve });
            review(&format!("{forge}/api/people/{repository}/proposals/{number}/review"), &ask).await
        }
        What::Propose { repository, forge, source, target, title, outside, by } => {
            let ask = serde_json::json!({ "source": source, "target": target, "title": title, "outside": outside, "by": by });
            propose(&repository, &forge, &ask).await
        }
        What::Repository { name, forge, hook, secret } => repository(&name, &forge, hook.zip(secret)).await,
    };
    match done {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => {
            eprintln!("ordotaxis-practice: {error}");
            ExitCode::from(1)
        }
    }
}

async fn serve(listen: SocketAddr, data: PathBuf, dialect: Dialect) -> Result<(), Box<dyn std::error::Error>> {
    let listener = tokio::net::TcpListener::bind(listen).await?;
    let address = listener.local_addr()?;
    let forge = Forge::open(data, format!("http://{address}"), dialect)?;
    println!("practice forge at http://{address}");
    tokio::select! {
        served = forge.serve(listener) => Ok(served?),
        signal = tokio::signal::ctrl_c() => Ok(signal?),
    }
}

async fn mail(listen: SocketAddr, page: SocketAddr, data: PathBuf) -> Result<(), Box<dyn std::error::Error>> {
    let (mail, page) = (tokio::net::TcpListener::bind(listen).await?, tokio::net::TcpListener::bind(page).await?);
    let sink = Sink::open(data)?;
    println!("practice mail at {}, shown at http://{}", mail.local_addr()?, page.local_addr()?);
    tokio::select! {
        taken = sink.clone().take(mail) => Ok(taken?),
        shown = sink.show(page) => Ok(shown?),
        signal = tokio::signal::ctrl_c() => Ok(signal?),
    }
}

async fn host(name: &str, listen: SocketAddr, data: PathBuf, key: Option<String>) -> Result<(), Box<dyn std::error::Error>> {
    let listener = tokio::net::TcpListener::bind(listen).await?;
    let address = listener.local_addr()?;
    let host = Host::open(name, data, std::env::current_exe()?, key)?;
    println!("practice host {name} at http://{address}/now");
    tokio::select! {
        served = host.serve(listener) => Ok(served?),
        signal = tokio::signal::ctrl_c() => Ok(signal?),
    }
}

async fn cloud(listen: SocketAddr, data: PathBuf, program: PathBuf, weather: Weather) -> Result<(), Box<dyn std::error::Error>> {
    std::fs::create_dir_all(&data)?;
    let listener = tokio::net::TcpListener::bind(listen).await?;
    let address = listener.local_addr()?;
    let cloud = Cloud::new(Box::new(Processes { program, folder: data }));
    cloud.set_weather(weather);
    println!("practice cloud at http://{address}");
    tokio::select! {
        served = cloud.serve(listener) => Ok(served?),
        signal = tokio::signal::ctrl_c() => Ok(signal?),
    }
}

async fn bundle(file: &Path, host: &str, key: Option<String>) -> Result<(), Box<dyn std::error::Error>> {
    let request = reqwest::Client::new().put(format!("{host}/bundle")).body(std::fs::read(file)?);
    let sent = key.iter().fold(request, |request, key| request.bearer_auth(key)).send().await?;
    let (status, text) = (sent.status(), sent.text().await?);
    print!("{text}");
    if status.is_success() { Ok(()) } else { Err(format!("{host} answered {status}").into()) }
}

async fn act(host: &str, trouble: Trouble) -> Result<(), Box<dyn std::error::Error>> {
    let said = reqwest::Client::new().put(format!("{host}/trouble")).json(&trouble).send().await?.error_for_status()?;
    print!("{}", said.text().await?);
    Ok(())
}

async fn repository(name: &str, forge: &str, hook: Option<(String, String)>) -> Result<(), Box<dyn std::error::Error>> {
    let client = reqwest::Client::new();
    let made = client.post(format!("{forge}/api/repositories")).json(&serde_json::json!({ "name": name })).send().await?;
    println!("{}", made.error_for_status()?.text().await?);
    if let Some((url, secret)) = hook {
        let hook = serde_json::json!({ "url": url, "secret": secret });
        client.put(format!("{forge}/api/repositories/{name}/hook")).json(&hook).send().await?.error_for_status()?;
    }
    Ok(())
}

async fn propose(repository: &str, forge: &str, ask: &serde_json::Value) -> Result<(), Box<dyn std::error::Error>> {
    let made = reqwest::Client::new().post(format!("{forge}/api/repositories/{repository}/proposals")).json(ask).send().await?;
    println!("{}", made.error_for_status()?.text().await?);
    Ok(())
}

async fn review(url: &str, ask: &serde_json::Value) -> Result<(), Box<dyn std::error::Error>> {
    reqwest::Client::new().post(url).json(ask).send().await?.error_for_status()?;
    Ok(())
}
