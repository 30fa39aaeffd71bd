//! Everything at once: connections that are never finished, clients that never read, packets that are no packets, a client
//! that reconnects without end, and a broker that goes away in the middle of it. Whoever behaves is served throughout, nobody
//! gets what is not meant for him, and afterwards nothing is left behind.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, AtomicU32, Ordering};
use std::time::{Duration, Instant};

use tidy_warden_core::mqtt::{Properties, Publish, Version};
use tidy_warden_simulate::{Device, Login};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;

use crate::harness::{Guard, Mosquitto, World, block_on, eventually};

/// How long the storm blows.
const STORM: Duration = Duration::from_secs(12);

/// How many of each kind of troublemaker there are.
const MANY: usize = 40;

/// Open file handles and resident memory (MB) of a process.
fn held(process: u32) -> (usize, u64) {
    // Of a process that may not be dumped only root may see the handles; for others they count as none, before and after.
    let handles = match std::fs::read_dir(format!("/proc/{process}/fd")) {
        Ok(all) => all.count(),
        Err(error) => {
            assert_eq!(error.kind(), std::io::ErrorKind::PermissionDenied);
            0
        }
    };
    let status = std::fs::read_to_string(format!("/proc/{process}/status")).unwrap();
    let line = status.lines().find_map(|line| line.strip_prefix("VmRSS:")).unwrap();
    (handles, line.split_whitespace().next().unwrap().parse::<u64>().unwrap() / 1024)
}

/// Reads until the other side closes; gives how long that took.
async fn until_closed(mut stream: TcpStream) -> Duration {
    let begun = Instant::now();
    let mut buffer = [0; 1024];
    while tokio::time::timeout(STORM * 2, stream.read(&mut buffer)).await.unwrap().is_ok_and(|len| len > 0) {}
    begun.elapsed()
}

/// Publishes one number after the other and comes back when it loses its connection; gives the longest time in which
/// nothing of it was taken.
async fn good_client(login: Login, address: std::net::SocketAddr, over: Arc<AtomicBool>) -> (u32, Duration) {
    let (mut sent, mut longest, mut last) = (0u32, Duration::ZERO, Instant::now());
    let mut device: Option<Device> = None;
    while !over.load(Ordering::Relaxed) {
        let connected = match device.take() {
            Some(device) => Ok(device),
            None => login.connect(address).await,
        };
        if let Ok(mut connected) = connected {
            let taken = connected.publish("rope/ossel/wv-1/wind", sent.to_string().as_bytes()).await;
            if taken.is_ok_and(|outcome| outcome.is_ok()) {
                sent += 1;
                longest = longest.max(last.elapsed());
                last = Instant::now();
                device = Some(connected);
            }
        }
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    (sent, longest)
}

#[test]
fn a_storm_passes_and_leaves_nothing_behind() {
    let world = World::equipped();
    world.write("more.csv", "id,kind,label.site\nwv-3,windvane,ossel\nwv-4,windvane,ossel\n");
    world.run(&["device", "import", "more.csv"]).exits(0);
    for id in ["wv-3", "wv-4"] {
        world.run(&["enroll", id, "--make-key", "--out", "outfits"]).exits(0);
    }
    let broker = Mosquitto::locked(&world);
    let guard = Guard::before(&world, &broker);
    let (address, process) = (guard.address, guard.running.id());
    block_on(async {
        // What a session costs for the first time is no leak.
        world.login("wv-1").connect(address).await.unwrap().goodbye().await;
        world.login("cr-ossel").connect(address).await.unwrap().goodbye().await;
        tokio::time::sleep(Duration::from_secs(1)).await;
        let (handles, memory) = held(process);

        let over = Arc::new(AtomicBool::new(false));
        let mut storm = tokio::task::JoinSet::new();
        let mut closings = tokio::task::JoinSet::new();
        for at in 0..MANY {
            // A handshake that is never begun, one that never goes on, and a session that never says CONNECT.
            closings.spawn(async move {
                let mut stream = TcpStream::connect(address).await.unwrap();
                if at % 2 == 0 {
                    stream.write_all(&[0x16, 3, 1, 0x02, 0]).await.unwrap();
                }
                until_closed(stream).await
            });
            let login = world.login("wv-2");
            closings.spawn(async move {
                let begun = Instant::now();
                let mut secured = login.secure(address).await.unwrap();
                if at % 2 == 0 {
                    secured.write(&[0x10, 0x20, 0, 4]).await.unwrap();
                }
                secured.closed(STORM * 2).await;
                begun.elapsed()
            });
            // Packets that are no packets, and one that says it has 200 MB and sends one.
            let (login, over) = (world.login("wv-3"), over.clone());
            storm.spawn(async move {
                let bad: [&[u8]; 4] = [&[0x30, 0xff, 0xff, 0xff, 0x60], &[0xf1, 0], &[0x82, 3, 0, 0, 0], &[0x00; 64]];
                while !over.load(Ordering::Relaxed) {
                    if let Ok(mut device) = login.connect(address).await {
                        // The connection may be taken over by a twin of this one at any moment.
                        let _ = device.raw(bad[at % 4]).await;
                        let _ = device.raw(&vec![b'x'; 1 << 20]).await;
                    }
                    tokio::time::sleep(Duration::from_secs(1)).await;
                }
            });
        }
        // One that reconnects without end.
        let reconnects = Arc::new(AtomicU32::new(0));
        for _ in 0..2 {
            let (login, over, count) = (world.login("wv-4"), over.clone(), reconnects.clone());
            storm.spawn(async move {
                while !over.load(Ordering::Relaxed) {
                    if login.connect(address).await.is_ok() {
                        count.fetch_add(1, Ordering::Relaxed);
                    }
                }
            });
        }
        // Clients that subscribe to much and read nothing, while somebody publishes as fast as he can.
        let (login, slow_over) = (world.login("cr-ossel"), over.clone());
        storm.spawn(async move {
            while !slow_over.load(Ordering::Relaxed) {
                if let Ok(mut device) = login.connect(address).await {
                    let _ = device.subscribe("rope/ossel/#").await;
                    tokio::time::sleep(Duration::from_secs(3)).await;
                }
            }
        });
        let (login, flood_over) = (world.login("wv-2"), over.clone());
        storm.spawn(async move {
            let payload = vec![b'y'; 2000];
            let flood = Publish {
                dup: false,
                qos: 0,
                retain: false,
                topic: "rope/ossel/wv-2/wind",
                packet_id: None,
                properties: Properties::default(),
                payload: &payload,
            };
            let flood = flood.to_bytes(Version::V5).repeat(20);
            while !flood_over.load(Ordering::Relaxed) {
                if let Ok(mut device) = login.connect(address).await {
                    while !flood_over.load(Ordering::Relaxed) && device.raw(&flood).await.is_ok() {
                        tokio::time::sleep(Duration::from_millis(2)).await;
                    }
                }
                tokio::time::sleep(Duration::from_millis(50)).await;
            }
        });
        let good = tokio::spawn(good_client(world.login("wv-1"), address, over.clone()));
        tokio::time::sleep(STORM / 3).await;
        let port = broker.stop();
        let gone = Instant::now();
        tokio::time::sleep(Duration::from_secs(1)).await;
        let _broker = Mosquitto::again(&world, port);
        let away = gone.elapsed();
        tokio::time::sleep(STORM * 2 / 3).await;
        let (_, high) = held(process);
        over.store(true, Ordering::Relaxed);
        let (sent, longest) = good.await.unwrap();
        while storm.join_next().await.is_some() {}
        let mut slowest = Duration::ZERO;
        while let Some(took) = closings.join_next().await {
            slowest = slowest.max(took.unwrap());
        }
        assert!(slowest < Duration::from_secs(15), "unfinished openings are closed: {slowest:?}");
        assert!(
            sent > 50 && longest < away + Duration::from_secs(6),
            "{sent} taken, silent for {longest:?} of {away:?}"
        );
        assert!(reconnects.load(Ordering::Relaxed) > 100, "{reconnects:?}");
        // 40 times a megabyte was offered again and again; none of it is held.
        assert!(high < memory + 120, "{high} MB in the storm, {memory} MB before");
        let back = eventually(|| (held(process).0 <= handles + 2).then_some(()));
        assert!(back.is_some(), "{} handles, {handles} before", held(process).0);
        let mut control = world.login("cr-ossel").connect(address).await.unwrap();
        assert!(control.subscribe("rope/ossel/wv-1/wind").await.unwrap().is_ok());
        let mut vane = world.login("wv-1").connect(address).await.unwrap();
        assert!(vane.publish("rope/ossel/wv-1/wind", b"after").await.unwrap().is_ok());
        let message = control.message(Duration::from_secs(5)).await.unwrap().unwrap();
        assert_eq!((message.topic.as_str(), message.payload.as_slice()), ("rope/ossel/wv-1/wind", &b"after"[..]));
    });
    world.run(&["audit", "verify"]).exits(0);
}
