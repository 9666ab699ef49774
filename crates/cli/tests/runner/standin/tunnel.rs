//! A proxy that hands on what a client and a server say to each other (CONNECT, RFC 9110, section 9.3.6).

use std::io::{BufRead, BufReader, Write};
use std::net::{Shutdown, TcpListener, TcpStream};
use std::sync::{Arc, Mutex};

/// Ends with the test that made it: its threads wait for connections that do not come.
pub(crate) struct Tunnel {
    /// `http://HOST:PORT`
    pub address: String,
    asked: Arc<Mutex<Vec<String>>>,
}

impl Tunnel {
    /// Whatever host is asked for is the one that listens on `port` here.
    pub(crate) fn to(port: u16) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let address = format!("http://{}", listener.local_addr().unwrap());
        let asked: Arc<Mutex<Vec<String>>> = Arc::default();
        let noted = asked.clone();
        std::thread::spawn(move || {
            for client in listener.incoming().map_while(Result::ok) {
                let noted = noted.clone();
                std::thread::spawn(move || hand_on(client, port, &noted));
            }
        });
        Self { address, asked }
    }

    /// The lines of every request to connect.
    pub(crate) fn asked(&self) -> Vec<String> {
        self.asked.lock().unwrap().clone()
    }
}

/// A connection that breaks off ends both ways.
fn hand_on(client: TcpStream, port: u16, noted: &Mutex<Vec<String>>) -> Option<()> {
    let mut reader = BufReader::new(client.try_clone().ok()?);
    let mut lines = Vec::new();
    loop {
        let mut line = String::new();
        reader.read_line(&mut line).ok()?;
        if line.trim().is_empty() {
            break;
        }
        lines.push(line.trim().to_owned());
    }
    let connects = lines.first().is_some_and(|line| line.starts_with("CONNECT "));
    noted.lock().ok()?.extend(lines);
    let mut client = client;
    if !connects {
        client.write_all(b"HTTP/1.1 405 Method Not Allowed\r\nContent-Length: 0\r\n\r\n").ok()?;
        return None;
    }
    let mut server = TcpStream::connect(("127.0.0.1", port)).ok()?;
    client.write_all(b"HTTP/1.1 200 Connection established\r\n\r\n").ok()?;
    let (mut back_from, mut back_to) = (server.try_clone().ok()?, client.try_clone().ok()?);
    let back = std::thread::spawn(move || {
        let _ = std::io::copy(&mut back_from, &mut back_to);
        let _ = back_to.shutdown(Shutdown::Write);
    });
    let _ = std::io::copy(&mut reader, &mut server);
    let _ = server.shutdown(Shutdown::Write);
    back.join().ok()
}
