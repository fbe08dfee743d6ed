"""The doorman of the second door: only whole requests pass, and nobody waits for somebody who is slow.

Theory of operation. Strangers on a network may connect and say nothing, stop in the middle of a
handshake, or send a byte a second. So nothing of them reaches a thread of the server: one event
loop encrypts, reads each request to its end within a deadline (by the library `h11`), passes it
to the server on this machine, and brings the answer back at whatever pace the device reads it.

The server is told who asked in two headers that only the doorman may set.
"""

import asyncio
import logging
import ssl
import threading
from collections import Counter
from contextlib import suppress
from secrets import token_hex
from tempfile import SpooledTemporaryFile
from typing import IO

import h11

MOST_CONNECTIONS, MOST_OF_ONE = 400, 40
"""Connections at once, in all and of one address; a browser uses about six."""
HANDSHAKE_S, HEAD_S, IDLE_S = 5.0, 8.0, 60.0
BODY_S, BODY_BYTES_A_S = 10.0, 20_000
"""A body may take so long, and as much longer as its size takes at this pace."""
MOST_HEAD, MOST_BODY, IN_MEMORY, CHUNK = 65_536, 200_000_000, 1_000_000, 65_536
DOOR, FROM, SCHEME = b"x-iterum-door", b"x-iterum-from", b"x-iterum-scheme"
OURS = frozenset({DOOR, FROM, SCHEME})
"""Headers that tell the server who asked; of a device they are dropped."""
HOP_BY_HOP = frozenset({b"connection", b"keep-alive", b"proxy-connection", b"te", b"upgrade", b"expect"})


class Refuse(Exception):
    """A request that is not passed on: the status that says why."""

    def __init__(self, status: int) -> None:
        super().__init__(str(status))
        self.status = status


class Doorman:
    """Listens on the network for one server of this machine. `open` and `close` from any thread."""

    def __init__(self, host: str, port: int, inside: int, context: ssl.SSLContext | None) -> None:
        """host, port : where it listens. inside : port of the server on this machine. context : what
        encrypts; None speaks plainly.
        """
        self._host, self._port, self._inside, self.context = host, port, inside, context
        self.secret = token_hex(16)
        self._loop = asyncio.new_event_loop()
        self._over = asyncio.Event()
        self._ready = threading.Event()
        self._failed: OSError | None = None
        self._open: Counter[str] = Counter()
        self._thread = threading.Thread(target=self._run, name="doorman", daemon=True)

    def open(self) -> None:
        """Listen from now on. Raises OSError for a port that is taken."""
        self._thread.start()
        self._ready.wait()
        if self._failed is not None:
            raise self._failed

    def close(self) -> None:
        """Listen no more, and hang up on everybody."""
        with suppress(RuntimeError):
            self._loop.call_soon_threadsafe(self._over.set)
        self._thread.join(5)

    def _run(self) -> None:
        asyncio.set_event_loop(self._loop)
        try:
            self._loop.run_until_complete(self._serve())
        finally:
            self._ready.set()
            self._loop.close()

    async def _serve(self) -> None:
        try:
            server = await asyncio.start_server(
                self._meet,
                self._host,
                self._port,
                ssl=self.context,
                backlog=256,
                ssl_handshake_timeout=None if self.context is None else HANDSHAKE_S,
            )
        except OSError as error:
            self._failed = error
            return
        # What strangers do wrong in a handshake is no news, and would fill the log.
        self._loop.set_exception_handler(lambda _loop, _context: None)
        self._ready.set()
        async with server:
            await self._over.wait()
        for task in asyncio.all_tasks(self._loop):
            if task is not asyncio.current_task():
                task.cancel()
        await asyncio.sleep(0)

    async def _meet(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        address = str((writer.get_extra_info("peername") or ("",))[0])
        self._open[address] += 1
        try:
            if self._open[address] <= MOST_OF_ONE and self._open.total() <= MOST_CONNECTIONS:
                await _Talk(self, reader, writer, address).last()
        except (OSError, TimeoutError, h11.ProtocolError, asyncio.IncompleteReadError):
            pass  # it hung up, was too slow, or speaks something else: nobody else is concerned
        except Exception as error:
            logging.getLogger("iterum").warning("the doorman dropped a request: %s", type(error).__name__)
        finally:
            self._open[address] -= 1
            self._open += Counter()  # what is 0 is forgotten
            writer.close()


class _Talk:
    """One connection of a device, request by request."""

    def __init__(
        self, doorman: Doorman, reader: asyncio.StreamReader, writer: asyncio.StreamWriter, address: str
    ) -> None:
        self._doorman, self._reader, self._writer, self._address = doorman, reader, writer, address
        self._http = h11.Connection(h11.SERVER, max_incomplete_event_size=MOST_HEAD)

    async def last(self) -> None:
        """Answer until the device goes, or is too slow."""
        first = True
        while True:
            async with asyncio.timeout(HEAD_S if first else IDLE_S):
                head = await self._head()
            if head is None:
                return
            first = False
            with SpooledTemporaryFile(IN_MEMORY) as body:
                try:
                    async with asyncio.timeout(BODY_S + _length(head) / BODY_BYTES_A_S):
                        await self._body(body)
                    await self._pass_on(head, body)
                except Refuse as refusal:
                    await self._refuse(refusal.status)
                    return
            if self._http.our_state is not h11.DONE or self._http.their_state is not h11.DONE:
                return
            self._http.start_next_cycle()

    async def _event(self) -> h11.Event | type[h11.NEED_DATA] | type[h11.PAUSED]:
        while (event := self._http.next_event()) is h11.NEED_DATA:
            if self._http.they_are_waiting_for_100_continue:
                self._writer.write(self._http.send(h11.InformationalResponse(status_code=100, headers=[])) or b"")
            self._http.receive_data(await self._reader.read(CHUNK))
        return event

    async def _head(self) -> h11.Request | None:
        event = await self._event()
        return event if isinstance(event, h11.Request) else None

    async def _body(self, body: IO[bytes]) -> None:
        while isinstance(event := await self._event(), h11.Data):
            body.write(event.data)
            if body.tell() > MOST_BODY:
                raise Refuse(413)
        if not isinstance(event, h11.EndOfMessage):
            raise Refuse(400)

    async def _pass_on(self, head: h11.Request, body: IO[bytes]) -> None:
        """Ask the server, and give its answer to the device as it comes."""
        size = body.tell()
        body.seek(0)
        framing = {b"content-length", b"transfer-encoding"}
        ours = [item for item in head.headers if item[0] not in HOP_BY_HOP | OURS | framing]
        ours += [(b"content-length", b"%d" % size)] if size else []
        ours += [(b"connection", b"close"), (DOOR, self._doorman.secret.encode())]
        ours += [(FROM, self._address.encode()), (SCHEME, b"https" if self._doorman.context else b"http")]
        reader, writer = await asyncio.open_connection("127.0.0.1", self._doorman._inside)
        asked = h11.Connection(h11.CLIENT)
        try:
            request = h11.Request(method=head.method, target=head.target, headers=ours)
            writer.write(asked.send(request) or b"")
            while part := body.read(CHUNK):
                writer.write(asked.send(h11.Data(data=part)) or b"")
                await writer.drain()
            writer.write(asked.send(h11.EndOfMessage()) or b"")
            await writer.drain()
            await self._bring_back(asked, reader)
        finally:
            writer.close()

    async def _bring_back(self, asked: h11.Connection, reader: asyncio.StreamReader) -> None:
        while True:
            event = asked.next_event()
            if event is h11.NEED_DATA:
                asked.receive_data(await reader.read(CHUNK))
                continue
            if isinstance(event, h11.Response):
                theirs = [(name, value) for name, value in event.headers if name not in HOP_BY_HOP]
                event = h11.Response(status_code=event.status_code, headers=theirs, reason=event.reason)
            elif isinstance(event, h11.InformationalResponse):
                continue
            if not isinstance(event, (h11.Response, h11.Data, h11.EndOfMessage)):
                raise Refuse(502)
            self._writer.write(self._http.send(event) or b"")
            async with asyncio.timeout(IDLE_S):  # a device that reads nothing keeps only itself waiting
                await self._writer.drain()
            if isinstance(event, h11.EndOfMessage):
                return

    async def _refuse(self, status: int) -> None:
        if self._http.our_state is h11.SEND_RESPONSE or self._http.our_state is h11.IDLE:
            headers = [(b"content-length", b"0"), (b"connection", b"close")]
            self._writer.write(self._http.send(h11.Response(status_code=status, headers=headers)) or b"")
            self._writer.write(self._http.send(h11.EndOfMessage()) or b"")
            await self._writer.drain()


def _length(head: h11.Request) -> int:
    told = next((value for name, value in head.headers if name == b"content-length"), b"0")
    size = int(told) if told.isdigit() else 0
    if size > MOST_BODY:
        raise Refuse(413)
    return size
