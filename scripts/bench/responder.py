"""A bare far end in a process of its own: it answers every request with the same frame, the transaction being the
request's, or with as many zeros as it asks for. Sockets and nothing else, so that it is not what is measured."""

import multiprocessing
import select
import socket
from multiprocessing.connection import Connection
from multiprocessing.context import SpawnProcess

from kanaleto.lines.openfiles import raise_limit

_REQUEST_BYTES = 12


def _zeros(request: bytes) -> bytes:
    """The answer to a request for registers."""
    size = 2 * int.from_bytes(request[10:12])
    return request[:4] + (size + 3).to_bytes(2) + request[6:8] + bytes((size,)) + bytes(size)


def _respond(answer: bytes, ready: Connection) -> None:
    raise_limit()
    rest = answer[2:]
    listening = socket.create_server(("127.0.0.1", 0), backlog=1024)
    ready.send(listening.getsockname()[1])
    poll = select.epoll()
    poll.register(listening.fileno(), select.EPOLLIN)
    connections: dict[int, socket.socket] = {}
    while True:
        for number, _ in poll.poll():
            connection = connections.get(number)
            if connection is None:
                connection, _ = listening.accept()
                connection.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
                connections[connection.fileno()] = connection
                poll.register(connection.fileno(), select.EPOLLIN)
                continue
            try:
                data = connection.recv(4096)
                if not rest:
                    starts = range(0, len(data), _REQUEST_BYTES)
                    connection.sendall(b"".join([_zeros(data[at : at + _REQUEST_BYTES]) for at in starts]))
                elif len(data) == _REQUEST_BYTES:
                    connection.send(data[:2] + rest)
                elif data:
                    starts = range(0, len(data), _REQUEST_BYTES)
                    connection.sendall(b"".join(data[at : at + 2] + rest for at in starts))
            except OSError:
                data = b""
            if not data:
                poll.unregister(number)
                connections.pop(number).close()


def start_responder(answer: bytes = b"") -> tuple[SpawnProcess, int]:
    """The process, to be terminated, and the port that it listens on. Without an answer it gives zeros."""
    near, far = multiprocessing.Pipe()
    process = multiprocessing.get_context("spawn").Process(target=_respond, args=(answer, far), daemon=True)
    process.start()
    return process, near.recv()
