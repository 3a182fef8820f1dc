//! A directory that answers wrongly: one oddity each, over real sockets.

use futures_util::{SinkExt, StreamExt};
use ldap3_proto::LdapCodec;
use ldap3_proto::proto::{
    LdapBindResponse, LdapMsg, LdapOp, LdapPartialAttribute, LdapResult, LdapResultCode, LdapSearchRequest, LdapSearchResultEntry,
    LdapSearchScope,
};
use std::io;
use std::net::SocketAddr;
use tokio::io::AsyncWriteExt;
use tokio::net::{TcpListener, TcpStream};
use tokio::task::JoinHandle;
use tokio_util::codec::Framed;

/// What is odd about it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Oddity {
    /// Takes connections and says nothing.
    Hangs,
    /// Closes the connection in the middle of the answer to a search.
    ClosesMidAnswer,
    /// Refers every search to another server.
    Refers,
    /// Adds references to other servers to a right answer.
    AddsReferences,
    /// Gives ten thousand entries whatever limit was asked for.
    FloodsResults,
    /// Leaves the naming attribute out.
    HidesAttribute,
    /// Has two entries for one name.
    HasTwo,
    /// Writes values that are no UTF-8.
    WritesBytes,
    /// Speaks a version of TLS that nobody takes any more.
    OldTls,
}

/// A running one. Dropped, it stops.
#[derive(Debug)]
pub struct OddDirectory {
    address: SocketAddr,
    accepting: JoinHandle<()>,
}

impl OddDirectory {
    /// Starts one on a free port of loopback. It takes every password.
    ///
    /// # Errors
    /// The socket's.
    pub async fn start(oddity: Oddity) -> io::Result<Self> {
        let listener = TcpListener::bind("127.0.0.1:0").await?;
        let address = listener.local_addr()?;
        let accepting = tokio::spawn(async move {
            while let Ok((stream, _)) = listener.accept().await {
                tokio::spawn(async move {
                    // The other side leaving is its right.
                    let _ = talk(stream, oddity).await;
                });
            }
        });
        Ok(OddDirectory { address, accepting })
    }

    /// Where it listens.
    pub fn address(&self) -> SocketAddr {
        self.address
    }
}

impl Drop for OddDirectory {
    fn drop(&mut self) {
        self.accepting.abort();
    }
}

async fn talk(mut stream: TcpStream, oddity: Oddity) -> io::Result<()> {
    match oddity {
        Oddity::Hangs => return std::future::pending().await,
        Oddity::OldTls => {
            stream.readable().await?;
            // A fatal alert: protocol_version (RFC 8446 section 6.2), in a record of TLS 1.0.
            stream.write_all(&[0x15, 3, 1, 0, 2, 2, 70]).await?;
            return stream.shutdown().await;
        }
        _ => {}
    }
    let mut framed = Framed::new(stream, LdapCodec::default());
    while let Some(message) = framed.next().await {
        let LdapMsg { msgid, op, .. } = message?;
        match op {
            LdapOp::BindRequest(_) => {
                let response = LdapBindResponse { res: result(LdapResultCode::Success, None), saslcreds: None };
                framed.send(LdapMsg { msgid, op: LdapOp::BindResponse(response), ctrl: Vec::new() }).await?;
            }
            LdapOp::SearchRequest(search) => {
                let (operations, done) = answer(&search, oddity);
                for op in operations {
                    framed.feed(LdapMsg { msgid, op, ctrl: Vec::new() }).await?;
                }
                if oddity == Oddity::ClosesMidAnswer && !search.base.is_empty() {
                    framed.flush().await?;
                    let mut stream = framed.into_inner();
                    // The first bytes of another entry, and no more.
                    stream.write_all(&[0x30, 0x82, 0x10, 0x00, 0x02, 0x01]).await?;
                    return stream.shutdown().await;
                }
                framed.send(LdapMsg { msgid, op: LdapOp::SearchResultDone(done), ctrl: Vec::new() }).await?;
            }
            LdapOp::UnbindRequest => return Ok(()),
            _ => {}
        }
    }
    Ok(())
}

fn result(code: LdapResultCode, referral: Option<&str>) -> LdapResult {
    LdapResult { code, matcheddn: String::new(), message: String::new(), referral: referral.into_iter().map(str::to_owned).collect() }
}

fn entry(uid: &str, attributes: &[(&str, &[u8])]) -> LdapOp {
    let attributes = attributes.iter().map(|(name, value)| LdapPartialAttribute { atype: (*name).to_owned(), vals: vec![value.to_vec()] });
    LdapOp::SearchResultEntry(LdapSearchResultEntry {
        dn: format!("uid={uid},ou=people,dc=northmoor,dc=example"),
        attributes: attributes.collect(),
    })
}

fn answer(search: &LdapSearchRequest, oddity: Oddity) -> (Vec<LdapOp>, LdapResult) {
    let good = result(LdapResultCode::Success, None);
    if search.scope == LdapSearchScope::Base {
        return (Vec::new(), good);
    }
    let group: (&str, &[u8]) = ("memberOf", b"cn=control-room,ou=groups,dc=northmoor,dc=example");
    let ines = || entry("ines", &[("uid", b"ines"), ("cn", b"Ines Okafor"), group]);
    match oddity {
        Oddity::Refers => (Vec::new(), result(LdapResultCode::Referral, Some("ldap://dir9.northmoor.example/"))),
        Oddity::AddsReferences => {
            let reference =
                ldap3_proto::proto::LdapSearchResultReference { uris: vec!["ldap://dir9.northmoor.example/dc=elsewhere".to_owned()] };
            (vec![ines(), LdapOp::SearchResultReference(reference)], good)
        }
        Oddity::FloodsResults => ((0..10_000).map(|number| entry(&format!("ines{number}"), &[("uid", b"ines")])).collect(), good),
        Oddity::HidesAttribute => (vec![entry("ines", &[("cn", b"Ines Okafor")])], good),
        Oddity::HasTwo => (vec![ines(), ines()], good),
        Oddity::WritesBytes => {
            let odd = entry(
                "ines",
                &[("uid", b"ines"), ("cn", b"In\xe9s \xff"), ("memberOf", b"cn=control-room,ou=gr\xfcppen,dc=northmoor,dc=example")],
            );
            (vec![odd], good)
        }
        _ => (vec![ines()], good),
    }
}
