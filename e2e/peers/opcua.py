"""An OPC UA server of another maker, for tests: python opcua.py PORT. Prints a line when it is ready.

Below Objects/Locks are Osier and Marl, each with Level, Gate and Turbidity. Levels rise by one in each quarter of a second; the turbidity of Marl has a
bad status. The user is clerk, with the password river. Sessions may be open, signed, or signed and encrypted.
"""

import asyncio
import datetime
import pathlib
import sys
import tempfile

from asyncua import Server, ua
from asyncua.crypto.cert_gen import setup_self_signed_certificate
from asyncua.server.user_managers import UserManager
from asyncua.crypto.permission_rules import User, UserRole
from cryptography.x509.oid import ExtendedKeyUsageOID


class Users(UserManager):
    def get_user(self, _session, username=None, password=None, certificate=None):
        if username is None or (username, password) == ("clerk", "river"):
            return User(role=UserRole.User)
        return None


async def secure(server, folder):
    name, certificate, key = "urn:velmar:server", folder / "server.der", folder / "server.pem"
    about = {"countryName": "XX", "organizationName": "Velmar", "localityName": "Velmar", "stateOrProvinceName": "Velmar"}
    usage = [ExtendedKeyUsageOID.CLIENT_AUTH, ExtendedKeyUsageOID.SERVER_AUTH]
    await server.set_application_uri(name)
    await setup_self_signed_certificate(key, certificate, name, "127.0.0.1", usage, about)
    await server.load_certificate(str(certificate))
    await server.load_private_key(str(key))
    policies = ua.SecurityPolicyType
    server.set_security_policy([policies.NoSecurity, policies.Basic256Sha256_Sign, policies.Basic256Sha256_SignAndEncrypt])


async def main():
    server = Server(user_manager=Users())
    await server.init()
    server.set_endpoint(f"opc.tcp://127.0.0.1:{sys.argv[1]}/velmar/")
    with tempfile.TemporaryDirectory() as folder:
        await secure(server, pathlib.Path(folder))
    space = await server.register_namespace("urn:velmar")
    locks = await server.nodes.objects.add_folder(space, "Locks")
    levels = []
    for lock in ["Osier", "Marl"]:
        folder = await locks.add_folder(space, lock)
        levels.append(await folder.add_variable(ua.NodeId(f"{lock}.Level", space), "Level", 300.0))
        await folder.add_variable(space, "Gate", "open")
        turbidity = await folder.add_variable(space, "Turbidity", 4.5)
        if lock == "Marl":
            await turbidity.write_value(ua.DataValue(ua.Variant(4.5), ua.StatusCode(ua.StatusCodes.BadSensorFailure)))
    async with server:
        print("ready", flush=True)
        level = 300.0
        while True:
            await asyncio.sleep(0.25)
            level += 1
            at = datetime.datetime(2026, 5, 1, 9) + datetime.timedelta(seconds=level)
            for variable in levels:
                await variable.write_value(ua.DataValue(ua.Variant(level), SourceTimestamp=at, ServerTimestamp=at))


asyncio.run(main())
