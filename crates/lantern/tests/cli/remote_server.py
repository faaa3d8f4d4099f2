"""A server whose remote console is somebody else's: the package rcon-server, in target/remote-console."""
import asyncio
import os
import sys

from rcon_server.rcon_connection import RCONConnection
from rcon_server.rcon_message import RCONMessage
from rcon_server.rcon_server import RCONServer


class Fernhouse(RCONServer):
    def handle_execcommand(self, packet, connection: RCONConnection):
        if packet.body == "ferns":
            answer = "".join(f"- fern-{n} {n}.0.1\n" for n in range(500)) + "that is all\n"
        elif packet.body == "close":
            os._exit(0)
        elif packet.body == "cut":
            connection._transport.write(b"\x40\x00\x00\x00\x02\x00")
            connection._transport.close()
            return
        else:
            answer = f"no such command: {packet.body}\n"
        for part in RCONMessage(id=packet.id, type=0, body=answer):
            connection.send_packet(part)


server = Fernhouse(bind=("127.0.0.1", int(sys.argv[1])), password="fern frond")
asyncio.run(server.listen())
