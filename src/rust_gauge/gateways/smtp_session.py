"""An SMTP session (RFC 5321) whose messages take no more memory than their octets, whatever their lines are like.

aiosmtpd keeps each line of a message as an object of its own, which costs many times the octets where lines are
empty, and refuses lines over 1,000 octets, which some receivers have to report about. Here a message is read in pieces.
"""

from typing import Any

from aiosmtpd.smtp import SMTP, syntax

_PIECE = 64 * 1024  # octets
_END = b"\r\n.\r\n"


class SmtpSession(SMTP):
    """One session of a listener."""

    line_length_limit = _PIECE  # of the stream: commands have a limit of their own (512 octets and what extensions add)

    def message_limit(self) -> int:
        """Return how many octets the message that comes next may have."""
        return int(self.data_size_limit or 0)

    @syntax("DATA")
    async def smtp_DATA(self, arg: str) -> None:
        """Read a message and hand it to the handler (RFC 5321 §4.1.1.4)."""
        if await self.check_helo_needed() or await self.check_auth_needed("DATA"):
            return
        envelope = self.envelope
        assert envelope is not None, "a session begins with one"
        if not envelope.rcpt_tos:
            await self.push("503 5.5.1 Error: need RCPT command")
            return
        if arg:
            await self.push("501 5.5.4 Syntax: DATA")
            return
        await self.push("354 End data with <CR><LF>.<CR><LF>")
        raw = await self._read_message(self.message_limit())
        if raw is None:
            status: Any = f"552 5.3.4 The message has more than {self.message_limit()} octets"
        else:
            envelope.content = envelope.original_content = raw
            status = await self._call_handler_hook("DATA")
        self._set_post_data_state()  # type: ignore[no-untyped-call]
        await self.push(status)

    async def _read_message(self, limit: int) -> bytes | None:
        """Return the message, dots removed (§4.5.2); None for one beyond the limit, which is read to its end."""
        data, too_long = bytearray(b"\r\n"), False
        while True:
            piece = await self._reader.read(_PIECE)
            if not piece:
                raise ConnectionResetError
            self._reset_timeout()
            data += piece
            end = data.find(_END, max(0, len(data) - len(piece) - len(_END) + 1))
            if end >= 0:
                rest = bytes(data[end + len(_END) :])
                if rest:  # the client did not wait for the reply (RFC 2920)
                    self._reader._buffer[:0] = rest  # type: ignore[attr-defined]
                del data[end + 2 :]
                break
            too_long = too_long or len(data) > limit + 2
            if too_long:
                del data[: -len(_END) + 1]
        if too_long or len(data) > limit + 2:
            return None
        return bytes(data.replace(b"\r\n.", b"\r\n"))[2:]
