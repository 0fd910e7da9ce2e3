//! Three network namespaces in a row, and packets of any kind sent from one to another.

use crate::oracle::naive::Packet;
use rustix::thread::{LinkNameSpaceType, move_into_link_name_space};
use socket2::{Domain, Protocol, SockAddr, Socket, Type};
use std::collections::HashMap;
use std::fs::File;
use std::io::{ErrorKind, Read, Write};
use std::net::{IpAddr, SocketAddr};
use std::os::fd::AsFd;
use std::process::{Command, Output, Stdio};
use std::time::{Duration, Instant};

/// Marks the packets of this test; their number comes behind it.
const MARK: [u8; 4] = *b"hrns";

/// Who stands in the row: neighbours at both sides of the machine that filters.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Place {
    Left,
    Machine,
    Right,
}

struct Stand {
    space: String,
    senders: [Socket; 2],
    receivers: Vec<Socket>,
    /// What came, by its number.
    arrived: HashMap<u32, Vec<u8>>,
}

/// The namespaces; they go with their owner.
pub struct Net {
    stands: Vec<Stand>,
    next: u32,
}

pub fn run(program: &str, arguments: &[&str], input: &str) -> Output {
    let mut child = Command::new(program)
        .args(arguments)
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    child
        .stdin
        .take()
        .unwrap()
        .write_all(input.as_bytes())
        .unwrap();
    child.wait_with_output().unwrap()
}

fn enter(space: &str) {
    let file = File::open(format!("/run/netns/{space}")).unwrap();
    move_into_link_name_space(file.as_fd(), Some(LinkNameSpaceType::Network)).unwrap();
}

fn set(name: &str, value: &str) {
    std::fs::write(format!("/proc/sys/net/{name}"), value).unwrap();
}

/// Whether a program is there.
pub fn has(program: &str) -> bool {
    Command::new(program)
        .arg("--version")
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .status()
        .is_ok()
}

impl Net {
    /// None, with the reason said, where namespaces are not permitted or a program is missing.
    pub fn new(programs: &[&str], name: &str) -> Option<Self> {
        let missing = ["ip"].iter().chain(programs).find(|program| !has(program));
        let space = |place: &str| format!("heron-{name}-{}-{place}", std::process::id());
        let spaces = ["l", "m", "r"].map(space);
        let made = missing.is_none()
            && spaces.iter().all(|space| {
                Command::new("ip")
                    .args(["netns", "add", space])
                    .output()
                    .unwrap()
                    .status
                    .success()
            });
        if !made {
            let why = missing.map_or(
                "network namespaces are not permitted here".to_owned(),
                |one| format!("{one} is not installed"),
            );
            crate::cannot_be_asked(&why);
            return None;
        }
        let batch = |space: &str, lines: &str| {
            let out = run("ip", &["-n", space, "-batch", "-"], lines);
            assert!(
                out.status.success(),
                "{lines}: {}",
                String::from_utf8_lossy(&out.stderr)
            );
        };
        // Nobody asks for neighbours: both ends of a line have one hardware address.
        for (own, other, left, right, mac) in [
            (1, 0, "m0", "l0", "02:00:00:00:00:01"),
            (1, 2, "m1", "r0", "02:00:00:00:00:02"),
        ] {
            let own: &str = &spaces[own];
            batch(
                own,
                &format!(
                    "link add {left} address {mac} type veth peer name {right} address {mac} netns {}\n",
                    spaces[other]
                ),
            );
        }
        batch(
            &spaces[0],
            "link set lo up\nlink set l0 arp off up\n\
            addr add 10.50.0.2/15 dev l0\naddr add fd00:50::2/32 dev l0 nodad\nroute add local 10.50.0.0/15 dev lo\n\
            route add local fd00:50::/32 dev lo\nroute add default dev l0\nroute add ::/0 dev l0\n",
        );
        batch(
            &spaces[1],
            "link set lo up\nlink set m0 arp off up\nlink set m1 arp off up\n\
            addr add 10.50.0.1/15 dev m0\naddr add fd00:50::1/32 dev m0 nodad\naddr add 10.200.0.1/14 dev m1\n\
            addr add fd00:200::1/32 dev m1 nodad\nroute add local 10.208.0.0/14 dev lo\nroute add local fd00:208::/32 dev lo\n",
        );
        batch(
            &spaces[2],
            "link set lo up\nlink set r0 arp off up\n\
            addr add 10.200.0.2/14 dev r0\naddr add fd00:200::2/32 dev r0 nodad\nroute add local 10.200.0.0/14 dev lo\n\
            route add local fd00:200::/32 dev lo\nroute add default dev r0\nroute add ::/0 dev r0\n",
        );
        let mut stands = Vec::new();
        for space in spaces {
            enter(&space);
            for name in ["ipv4/conf/all/rp_filter", "ipv4/conf/default/rp_filter"] {
                set(name, "0");
            }
            for entry in std::fs::read_dir("/proc/sys/net/ipv4/conf").unwrap() {
                let name = entry.unwrap().file_name().into_string().unwrap();
                set(&format!("ipv4/conf/{name}/rp_filter"), "0");
            }
            for (name, value) in [
                ("ipv4/ip_forward", "1"),
                ("ipv6/conf/all/forwarding", "1"),
                ("ipv4/icmp_echo_ignore_all", "1"),
                ("ipv6/icmp/echo_ignore_all", "1"),
                ("ipv4/icmp_ratelimit", "0"),
            ] {
                set(name, value);
            }
            let sender = |domain| {
                let socket = Socket::new(domain, Type::RAW, Some(Protocol::from(255))).unwrap();
                socket.set_send_buffer_size(1 << 20).unwrap();
                socket
            };
            let senders = [sender(Domain::IPV4), sender(Domain::IPV6)];
            senders[0].set_header_included_v4(true).unwrap();
            let receive = |domain, protocol: u8| {
                let socket =
                    Socket::new(domain, Type::RAW, Some(Protocol::from(i32::from(protocol))))
                        .unwrap();
                socket.set_nonblocking(true).unwrap();
                socket.set_recv_buffer_size(1 << 22).unwrap();
                socket
            };
            let mut receivers = Vec::new();
            for protocol in [6, 17, 132, 47, 89] {
                receivers.extend([
                    receive(Domain::IPV4, protocol),
                    receive(Domain::IPV6, protocol),
                ]);
            }
            receivers.extend([receive(Domain::IPV4, 1), receive(Domain::IPV6, 58)]);
            stands.push(Stand {
                space,
                senders,
                receivers,
                arrived: HashMap::new(),
            });
        }
        let net = Self { stands, next: 0 };
        net.enter(Place::Machine);
        Some(net)
    }

    /// What this thread starts from now on runs there.
    pub fn enter(&self, place: Place) {
        enter(&self.stands[place as usize].space);
    }

    /// Sends a packet; its number.
    pub fn send(&mut self, from: Place, packet: &Packet) -> u32 {
        self.next += 1;
        let mut tail = MARK.to_vec();
        tail.extend(self.next.to_be_bytes());
        let bytes = bytes_of(packet, &tail);
        let sender = &self.stands[from as usize].senders[usize::from(packet.destination.is_ipv6())];
        // A firewall at the sender may refuse it at once.
        if let Err(error) = sender.send_to(
            &bytes,
            &SockAddr::from(SocketAddr::new(packet.destination, 0)),
        ) {
            assert_eq!(
                error.kind(),
                ErrorKind::PermissionDenied,
                "{packet:?}: {error}"
            );
        }
        self.next
    }

    /// Whether a packet arrived. One that is waited for has some time.
    pub fn arrived(&mut self, at: Place, number: u32, awaited: bool) -> bool {
        let stand = &mut self.stands[at as usize];
        let until = Instant::now() + Duration::from_millis(500);
        loop {
            let mut buffer = [0; 2048];
            for receiver in &mut stand.receivers {
                while let Ok(length) = receiver.read(&mut buffer) {
                    let found = buffer[..length].windows(8).find(|bytes| bytes[..4] == MARK);
                    if let Some(found) = found {
                        let number = u32::from_be_bytes(found[4..].try_into().unwrap());
                        stand.arrived.insert(number, buffer[..length].to_vec());
                    }
                }
            }
            if stand.arrived.contains_key(&number) || !awaited || Instant::now() > until {
                return stand.arrived.contains_key(&number);
            }
            std::thread::sleep(Duration::from_millis(1));
        }
    }

    /// As what a packet of TCP or UDP over IPv4 arrived.
    pub fn header(&self, at: Place, number: u32) -> Packet {
        let bytes = &self.stands[at as usize].arrived[&number];
        let address = |at: usize| <[u8; 4]>::try_from(&bytes[at..at + 4]).unwrap().into();
        let behind = usize::from(bytes[0] & 15) * 4;
        let port = |at: usize| u16::from_be_bytes([bytes[behind + at], bytes[behind + at + 1]]);
        Packet {
            source: address(12),
            destination: address(16),
            protocol: bytes[9],
            low: port(2),
            source_port: port(0),
        }
    }
}

impl Drop for Net {
    fn drop(&mut self) {
        for stand in &self.stands {
            let _ = Command::new("ip")
                .args(["netns", "del", &stand.space])
                .status();
        }
    }
}

/// A packet as it goes over the line.
fn bytes_of(packet: &Packet, tail: &[u8]) -> Vec<u8> {
    let (source, destination) = (packet.source_port.to_be_bytes(), packet.low.to_be_bytes());
    let mut body = Vec::new();
    match packet.protocol {
        6 => {
            body.extend([source, destination].concat());
            body.extend([0, 0, 0, 1, 0, 0, 0, 0, 0x50, 0x02, 0x20, 0, 0, 0, 0, 0]);
        }
        17 => {
            body.extend([source, destination].concat());
            body.extend(u16::try_from(8 + tail.len()).unwrap().to_be_bytes());
            body.extend([0, 0]);
        }
        132 => {
            body.extend([source, destination].concat());
            // An INIT, alone in its packet: no tag yet; 20 bytes with a tag and a window, which are the mark, streams, a number.
            body.extend([0; 8]);
            body.extend([1, 0, 0, 20]);
            body.extend(tail);
            body.extend([0, 1, 0, 1, 0, 0, 0, 1]);
        }
        1 | 58 => {
            body.extend(destination);
            body.extend([0, 0, 0, 9, 0, 1]);
        }
        47 => body.extend([0, 0, 8, 0]),
        _ => body.extend([0; 24]),
    }
    if packet.protocol != 132 {
        body.extend(tail);
    }
    let at = match packet.protocol {
        6 => 16,
        17 => 6,
        1 | 58 => 2,
        132 => 8,
        _ => usize::MAX,
    };
    if packet.protocol == 132 {
        let sum = crc32c(&body).to_le_bytes();
        body[at..at + 4].copy_from_slice(&sum);
    } else if at != usize::MAX {
        let mut pseudo = Vec::new();
        if packet.protocol != 1 {
            for end in [packet.source, packet.destination] {
                match end {
                    IpAddr::V4(end) => pseudo.extend(end.octets()),
                    IpAddr::V6(end) => pseudo.extend(end.octets()),
                }
            }
            pseudo.extend([0, packet.protocol]);
            pseudo.extend(u16::try_from(body.len()).unwrap().to_be_bytes());
        }
        let sum = !ones_sum(&[pseudo.as_slice(), &body].concat());
        body[at..at + 2].copy_from_slice(&sum.to_be_bytes());
    }
    match (packet.source, packet.destination) {
        (IpAddr::V4(from), IpAddr::V4(to)) => {
            let mut bytes = vec![0x45, 0];
            bytes.extend(u16::try_from(20 + body.len()).unwrap().to_be_bytes());
            bytes.extend([0, 0, 0, 0, 64, packet.protocol, 0, 0]);
            bytes.extend([from.octets(), to.octets()].concat());
            bytes.extend(body);
            bytes
        }
        (IpAddr::V6(from), IpAddr::V6(to)) => {
            let mut bytes = vec![0x60, 0, 0, 0];
            bytes.extend(u16::try_from(body.len()).unwrap().to_be_bytes());
            bytes.extend([packet.protocol, 64]);
            bytes.extend([from.octets(), to.octets()].concat());
            bytes.extend(body);
            bytes
        }
        _ => panic!("{packet:?}"),
    }
}

/// The checksum of RFC 1071, before its complement.
fn ones_sum(bytes: &[u8]) -> u16 {
    let words = bytes
        .chunks(2)
        .map(|pair| u32::from(pair[0]) << 8 | u32::from(*pair.get(1).unwrap_or(&0)));
    let sum = words.sum::<u32>();
    let folded = (sum & 0xFFFF) + (sum >> 16);
    u16::try_from((folded & 0xFFFF) + (folded >> 16)).unwrap()
}

/// The checksum of SCTP (RFC 9260, appendix A).
fn crc32c(bytes: &[u8]) -> u32 {
    !bytes.iter().fold(u32::MAX, |sum, byte| {
        (0..8).fold(sum ^ u32::from(*byte), |sum, _| {
            (sum >> 1) ^ if sum & 1 == 1 { 0x82F6_3B78 } else { 0 }
        })
    })
}
