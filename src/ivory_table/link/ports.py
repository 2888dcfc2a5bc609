"""Opening a line, and one question asked on it before any manner is known."""

import re
import time

import serial

#: So long nothing comes where an answer has ended.
QUIET_S = 0.5


def open_port(url: str, baud: int = 115200) -> serial.SerialBase:
    """A serial device for ourselves alone, or `socket://host:port`. Raises ValueError with a sentence."""
    if not re.fullmatch(r"socket://[A-Za-z0-9_.\-]+:\d{1,5}|/dev/[A-Za-z0-9_./\-]+|COM\d{1,3}", url) or ".." in url:
        raise ValueError("Give a serial device such as /dev/ttyUSB0 or COM3, or socket://host:port.")
    try:
        if url.startswith("socket://"):
            return serial.serial_for_url(url, timeout=0.1)
        return serial.Serial(url, baud, timeout=0.1, write_timeout=5, exclusive=True)
    except (serial.SerialException, OSError, ValueError) as wrong:
        text = str(wrong)
        if "exclusively lock" in text:
            raise ValueError(f"{url} is in use by another program. Close it there first.") from None
        raise ValueError(
            f"{url} cannot be opened: {text.split(':')[0]}. Check the cable, the name and the rights."
        ) from None


def exchange(port: serial.SerialBase, line: str, limit_s: float = 6.0) -> tuple[str, str]:
    """What a machine says on its own, then what it says to one line, until it is quiet. The port is closed."""

    def until_quiet(first_s: float) -> str:
        said, ends, quiet = b"", time.monotonic() + first_s, 0.0
        while time.monotonic() < ends and len(said) < 40_000:
            data = port.read(4096)
            if data:
                said, quiet = said + data, time.monotonic() + QUIET_S
                ends = max(ends, quiet)
            elif said and time.monotonic() > quiet:
                break
        return said.decode("ascii", "replace").replace("\r", "\n").replace("\n\n", "\n").strip()

    try:
        greeting = until_quiet(2.0)
        port.write(line.encode("ascii", "replace") + b"\n")
        return greeting, until_quiet(limit_s)
    except (serial.SerialException, OSError):
        return "", ""
    finally:
        port.close()
