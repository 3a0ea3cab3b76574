//! Which requests read the registers of a device: neighbouring ones share a request.

use crate::definition::{MAX_REGISTERS, Register, Table};

/// Most bits that one request returns (MODBUS Application Protocol 1.1b3, 6.1).
const MAX_BITS: u16 = 2_000;

/// A request, and the registers that it answers.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Request {
    pub table: Table,
    pub start: u16,
    pub count: u16,
    /// Positions in the list of registers.
    pub registers: Vec<usize>,
}

impl Request {
    fn one(registers: &[Register], at: usize) -> Self {
        let register = &registers[at];
        Self { table: register.table, start: register.address, count: register.count(), registers: vec![at] }
    }

    /// The same registers, each in a request of its own.
    pub fn split(&self, registers: &[Register]) -> Vec<Self> {
        self.registers.iter().map(|at| Self::one(registers, *at)).collect()
    }
}

/// Requests for some registers. Two share one if at most `gap` unused registers lie between them; those in `alone` share none.
pub fn requests(registers: &[Register], due: impl Iterator<Item = usize>, gap: u16, alone: impl Fn(usize) -> bool) -> Vec<Request> {
    let mut due: Vec<usize> = due.collect();
    due.sort_by_key(|at| (registers[*at].table, registers[*at].address));
    let mut requests: Vec<Request> = Vec::new();
    let mut can_grow = false;
    for at in due {
        let (register, is_alone) = (&registers[at], alone(at));
        let end = u32::from(register.address) + u32::from(register.count());
        let most = if register.table.is_bits() { MAX_BITS } else { MAX_REGISTERS };
        match requests.last_mut() {
            Some(last)
                if can_grow
                    && !is_alone
                    && last.table == register.table
                    && u32::from(register.address) <= u32::from(last.start) + u32::from(last.count) + u32::from(gap)
                    && end - u32::from(last.start) <= u32::from(most) =>
            {
                last.count = last.count.max((end - u32::from(last.start)) as u16);
                last.registers.push(at);
            }
            _ => {
                can_grow = !is_alone;
                requests.push(Request::one(registers, at));
            }
        }
    }
    requests
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::definition::Definition;

    fn registers(of: &[(&str, u16, &str)]) -> Vec<Register> {
        let list: Vec<String> =
            of.iter().map(|(table, address, form)| format!("{{ metric = \"a\", table = \"{table}\", address = {address}, {form} }}")).collect();
        let text = format!("kind = \"modbus\"\ndevices = [{{ address = \"h\" }}]\nregisters = [{}]\n", list.join(", "));
        let Definition::Modbus(modbus) = Definition::parse(&text, "x").unwrap() else { panic!("another kind") };
        modbus.registers
    }

    #[test]
    fn neighbours_share_a_request_up_to_its_limit() {
        let of = [
            ("holding", 20, "type = \"f32\""),
            ("holding", 0, "type = \"u16\""),
            ("input", 1, "type = \"u16\""),
            ("holding", 4, "type = \"u16\""),
            ("coil", 7, ""),
            ("holding", 120, "type = \"f64\""),
            ("holding", 127, "type = \"u16\""),
        ];
        let registers = registers(&of);
        let shape = |gap, alone: &dyn Fn(usize) -> bool| {
            requests(&registers, 0..of.len(), gap, alone)
                .iter()
                .map(|request| format!("{} {}+{} {:?}", request.table.as_str(), request.start, request.count, request.registers))
                .collect::<Vec<_>>()
        };
        assert_eq!(shape(8, &|_| false), ["holding 0+5 [1, 3]", "holding 20+2 [0]", "holding 120+8 [5, 6]", "input 1+1 [2]", "coil 7+1 [4]"]);
        assert_eq!(shape(124, &|_| false), ["holding 0+124 [1, 3, 0, 5]", "holding 127+1 [6]", "input 1+1 [2]", "coil 7+1 [4]"]);
        assert_eq!(shape(8, &|at| at == 3)[..2], ["holding 0+1 [1]", "holding 4+1 [3]"]);
        let all = requests(&registers, 0..of.len(), 124, |_| false);
        assert_eq!(all[0].split(&registers).len(), 4);
    }
}
