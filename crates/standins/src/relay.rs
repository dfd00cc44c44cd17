//! Passes connections on, between loopback and a Unix socket or the other way: a network namespace keeps its loopback to itself, and its
//! files not.

use std::path::PathBuf;
use std::str::FromStr;

use tokio::io::{AsyncRead, AsyncWrite, copy_bidirectional};
use tokio::net::{TcpListener, TcpStream, UnixListener, UnixStream};

/// One end: `tcp:ADDRESS:PORT` or `unix:PATH`.
#[derive(Clone, Debug)]
pub enum End {
    Tcp(String),
    Unix(PathBuf),
}

/// From one end to another, written `FROM=TO`.
#[derive(Clone, Debug)]
pub struct Pass {
    from: End,
    to: End,
}

impl FromStr for End {
    type Err = String;

    fn from_str(text: &str) -> Result<End, String> {
        match text.split_once(':') {
            Some(("tcp", address)) => Ok(End::Tcp(address.to_owned())),
            Some(("unix", path)) => Ok(End::Unix(path.into())),
            _ => Err(format!("{text}: write tcp:ADDRESS:PORT or unix:PATH")),
        }
    }
}

impl FromStr for Pass {
    type Err = String;

    fn from_str(text: &str) -> Result<Pass, String> {
        let (from, to) = text.split_once('=').ok_or("write FROM=TO")?;
        Ok(Pass { from: from.parse()?, to: to.parse()? })
    }
}

trait Stream: AsyncRead + AsyncWrite + Unpin + Send {}
impl<T: AsyncRead + AsyncWrite + Unpin + Send> Stream for T {}

async fn open(to: &End) -> std::io::Result<Box<dyn Stream>> {
    Ok(match to {
        End::Tcp(address) => Box::new(TcpStream::connect(address).await?),
        End::Unix(path) => Box::new(UnixStream::connect(path).await?),
    })
}

fn pass_on(mut near: Box<dyn Stream>, to: &End) {
    let to = to.clone();
    tokio::spawn(async move {
        if let Ok(mut far) = open(&to).await {
            let _ = copy_bidirectional(&mut near, &mut far).await;
        }
    });
}

/// Passes on until its task is dropped.
///
/// # Errors
/// An end cannot be listened on.
pub async fn run(pass: Pass) -> std::io::Result<()> {
    match &pass.from {
        End::Tcp(address) => {
            let listener = TcpListener::bind(address).await?;
            loop {
                let (near, _) = listener.accept().await?;
                pass_on(Box::new(near), &pass.to);
            }
        }
        End::Unix(path) => {
            let _ = std::fs::remove_file(path);
            let listener = UnixListener::bind(path)?;
            loop {
                let (near, _) = listener.accept().await?;
                pass_on(Box::new(near), &pass.to);
            }
        }
    }
}
