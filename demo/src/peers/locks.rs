//! Modbus TCP devices: turbidity and a gate at each lock (MODBUS Messaging on TCP/IP 1.0b, 3.1.3).

use std::{
    io::{self, Read, Write},
    net::{TcpListener, TcpStream},
    thread,
};

use super::{now, swing};

/// Reads holding or input registers.
const READ: [u8; 2] = [3, 4];
/// Exceptions (MODBUS Application Protocol 1.1b3, 7).
const ILLEGAL_FUNCTION: u8 = 1;
const ILLEGAL_ADDRESS: u8 = 2;
const DEVICE_BUSY: u8 = 6;
/// Registers of a device: turbidity in tenths of an NTU, and the state of the gate.
const REGISTERS: u16 = 2;

/// How a device behaves.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Manner {
    /// It answers.
    Sound,
    /// It is always busy.
    Busy,
    /// It accepts connections, and never answers.
    Silent,
    /// Its turbidity stays the same: the probe is covered in mud.
    Stuck,
}

/// Starts a device, and returns its port.
///
/// # Errors
/// If there is no free port.
pub fn start(number: u16, manner: Manner) -> io::Result<u16> {
    let listener = TcpListener::bind("127.0.0.1:0")?;
    let port = listener.local_addr()?.port();
    thread::Builder::new().name(format!("lock {number}")).spawn(move || {
        for stream in listener.incoming().flatten() {
            // A caller that leaves is no fault.
            thread::spawn(move || drop(answer(stream, number, manner)));
        }
    })?;
    Ok(port)
}

fn answer(mut stream: TcpStream, number: u16, manner: Manner) -> io::Result<()> {
    loop {
        // Transaction, protocol, length, unit.
        let mut header = [0; 7];
        stream.read_exact(&mut header)?;
        let length = usize::from(u16::from_be_bytes([header[4], header[5]]));
        if !(2..=254).contains(&length) {
            return Ok(());
        }
        let mut request = vec![0; length - 1];
        stream.read_exact(&mut request)?;
        if manner == Manner::Silent {
            continue;
        }
        let body = respond(&request, number, manner);
        let mut reply = header[..4].to_vec();
        reply.extend_from_slice(&(body.len() as u16 + 1).to_be_bytes());
        reply.push(header[6]);
        reply.extend_from_slice(&body);
        stream.write_all(&reply)?;
    }
}

fn respond(request: &[u8], number: u16, manner: Manner) -> Vec<u8> {
    let exception = |code: u8| vec![request[0] | 0x80, code];
    if manner == Manner::Busy {
        return exception(DEVICE_BUSY);
    }
    let &[function, a, b, c, d] = request else { return exception(ILLEGAL_FUNCTION) };
    if !READ.contains(&function) {
        return exception(ILLEGAL_FUNCTION);
    }
    let (start, count) = (u16::from_be_bytes([a, b]), u16::from_be_bytes([c, d]));
    if start.saturating_add(count) > REGISTERS || count == 0 {
        return exception(ILLEGAL_ADDRESS);
    }
    let phase = f64::from(number) / 7.0;
    // Ripples over the swell of an hour.
    let turbidity = swing(45.0, 30.0, 3_600.0, phase) + swing(0.0, 3.0, 11.0, phase);
    let turbidity = if manner == Manner::Stuck { 38 } else { turbidity.round() as u16 };
    // The gate opens for a quarter of every ten minutes.
    let gate = u16::from((now() / 600.0 + phase).fract() < 0.25);
    let words = [turbidity, gate];
    let words = &words[usize::from(start)..usize::from(start + count)];
    let bytes = words.iter().flat_map(|word| word.to_be_bytes());
    [function, (words.len() * 2) as u8].into_iter().chain(bytes).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_device_answers_with_registers_or_exceptions() {
        assert_eq!(respond(&[3, 0, 0, 0, 2], 1, Manner::Sound).len(), 6);
        assert_eq!(respond(&[3, 0, 1, 0, 2], 1, Manner::Sound), [0x83, ILLEGAL_ADDRESS]);
        assert_eq!(respond(&[6, 0, 0, 0, 2], 1, Manner::Sound), [0x86, ILLEGAL_FUNCTION]);
        assert_eq!(respond(&[4, 0, 0, 0, 1], 1, Manner::Busy), [0x84, DEVICE_BUSY]);
        assert_eq!(respond(&[4, 0, 0, 0, 1], 1, Manner::Stuck), [4, 2, 0, 38]);
    }
}
