"""A bare far end in a process of its own: it answers every request with the same frame, the transaction being the
request's."""

import asyncio
import multiprocessing
from multiprocessing.connection import Connection
from multiprocessing.context import SpawnProcess

from kanaleto.polling.engine import raise_file_limit


class _Responder(asyncio.Protocol):
    def __init__(self, answer: bytes) -> None:
        self._rest = answer[2:]

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        self._transport = transport

    def data_received(self, data: bytes) -> None:
        self._transport.write(data[:2] + self._rest)  # type: ignore[attr-defined]


def _respond(answer: bytes, ready: Connection) -> None:
    async def serve() -> None:
        raise_file_limit()
        server = await asyncio.get_running_loop().create_server(
            lambda: _Responder(answer), "127.0.0.1", 0, backlog=1024
        )
        ready.send(server.sockets[0].getsockname()[1])
        await server.serve_forever()

    asyncio.run(serve())


def start_responder(answer: bytes) -> tuple[SpawnProcess, int]:
    """The process, to be terminated, and the port that it listens on."""
    near, far = multiprocessing.Pipe()
    process = multiprocessing.get_context("spawn").Process(target=_respond, args=(answer, far), daemon=True)
    process.start()
    return process, near.recv()
