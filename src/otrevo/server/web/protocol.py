"""HTTP as uvicorn speaks it, for clients that take their time: the head of a request has to come soon and to be short."""

from uvicorn.protocols.http.httptools_impl import HttpToolsProtocol

HEAD_S = 15.0
MOST_HEAD_BYTES = 64 * 1024
LATE = b"HTTP/1.1 408 Request Timeout\r\nconnection: close\r\ncontent-length: 0\r\n\r\n"
LARGE = b"HTTP/1.1 431 Request Header Fields Too Large\r\nconnection: close\r\ncontent-length: 0\r\n\r\n"


class Protocol(HttpToolsProtocol):
    """Connections that send half a head, or no end of it, are closed."""

    late = None
    head_bytes = 0

    def connection_made(self, transport):
        super().connection_made(transport)
        self._expect_head()

    def connection_lost(self, exc):
        self._head_is_there()
        super().connection_lost(exc)

    def data_received(self, data):
        super().data_received(data)
        if self.late is not None and not self.transport.is_closing():
            self.head_bytes += len(data)
            if self.head_bytes > MOST_HEAD_BYTES:
                self._give_up(LARGE)

    def on_message_begin(self):
        super().on_message_begin()
        self._expect_head()

    def on_headers_complete(self):
        self._head_is_there()
        super().on_headers_complete()

    def _expect_head(self):
        if self.late is None:
            self.head_bytes = 0
            self.late = self.loop.call_later(HEAD_S, self._give_up, LATE)

    def _head_is_there(self):
        if self.late is not None:
            self.late.cancel()
            self.late = None

    def _give_up(self, answer):
        self._head_is_there()
        if not self.transport.is_closing():
            self.transport.write(answer)
            self.transport.close()
