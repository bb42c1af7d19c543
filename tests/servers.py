"""Plain TCP servers for tests, which answer as they are told."""

import socket
import socketserver


class Server(socketserver.ThreadingTCPServer):
    """A thread a connection."""

    allow_reuse_address = daemon_threads = True


def take(connection: socket.socket, count: int) -> bytes:
    """So many bytes, or none once the far end has gone."""
    data = b""
    while len(data) < count:
        try:
            piece = connection.recv(count - len(data))
        except OSError:
            return b""
        if not piece:
            return b""
        data += piece
    return data
