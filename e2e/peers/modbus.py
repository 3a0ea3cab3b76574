"""A Modbus TCP server of another maker, for tests: python modbus.py PORT. Prints a line when it is ready.

Unit 1 has registers 0 to 5, 10 to 15 and 100, and bits 0 to 15 as coils. Unit 2 answers slowly, unit 3 only with exceptions.
"""

import asyncio
import sys

from pymodbus.constants import ExcCodes
from pymodbus.server import ModbusTcpServer
from pymodbus.simulator import DataType, SimData, SimDevice


def blocks():
    registers = [
        SimData(0, values=[3125, 0xFFF0, 0x0001, 0x0002, 65535, 2], datatype=DataType.REGISTERS),
        SimData(10, values=[1.5], datatype=DataType.FLOAT32),
        SimData(12, values=["Osier\0"], datatype=DataType.STRING),
        SimData(100, values=[7], datatype=DataType.REGISTERS),
    ]
    bits = [SimData(0, values=[True, False, True] + [False] * 13, datatype=DataType.BITS)]
    return (bits, bits, registers, registers)


async def slow(*_):
    await asyncio.sleep(0.3)


async def broken(*_):
    return ExcCodes.DEVICE_BUSY


async def main():
    devices = [SimDevice(1, simdata=blocks()), SimDevice(2, simdata=blocks(), action=slow), SimDevice(3, simdata=blocks(), action=broken)]
    server = ModbusTcpServer(devices, address=("127.0.0.1", int(sys.argv[1])))
    await server.serve_forever(background=True)
    print("ready", flush=True)
    await asyncio.Event().wait()


asyncio.run(main())
