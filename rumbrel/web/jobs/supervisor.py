"""What the system that started Rumbrel is told: that it is ready, and time and again that it is well (sd_notify(3)).

Without a supervisor that asks for it nothing is told.
"""

import http.client
import logging
import os
import socket
import time

__all__ = ["Supervisor"]

logger = logging.getLogger(__name__)

_SECONDS_TO_ANSWER = 10


class Supervisor:
    """Tells that all is well twice in the time after which it would be missed, where /health/ on this machine says so.

    Where the answer is otherwise, or there is none, nothing is told, and the supervisor starts Rumbrel again.
    """

    def __init__(self, host: str, port: int, environment: "os._Environ[str] | dict[str, str]" = os.environ) -> None:
        self._host, self._port = host, port
        self._address = environment.get("NOTIFY_SOCKET", "")
        meant = environment.get("WATCHDOG_PID", str(os.getpid())) == str(os.getpid())
        microseconds = environment.get("WATCHDOG_USEC", "")
        self._seconds = int(microseconds) / 2e6 if meant and microseconds.isdecimal() else 0.0
        self._told_at = 0.0

    def ready(self) -> None:
        self._tell("READY=1")
        self._told_at = time.monotonic()

    def look(self) -> None:
        """Tell that all is well, where it is time to."""
        if not self._address or not self._seconds or time.monotonic() - self._told_at < self._seconds:
            return
        self._told_at = time.monotonic()
        if self._is_well():
            self._tell("WATCHDOG=1")

    def _is_well(self) -> bool:
        asked = http.client.HTTPConnection(self._host, self._port, timeout=_SECONDS_TO_ANSWER)
        try:
            asked.request("GET", "/health/", headers={"Host": "127.0.0.1"})
            answer = asked.getresponse()
            if answer.status != 200:
                logger.warning("/health/ says: %s", answer.read(400).decode("utf-8", "replace"))
            return answer.status == 200
        except (OSError, http.client.HTTPException) as error:
            logger.warning("/health/ does not answer: %s", error)
            return False
        finally:
            asked.close()

    def _tell(self, text: str) -> None:
        if not self._address:
            return
        # An address that begins with @ has no file (unix(7)).
        address = "\0" + self._address[1:] if self._address.startswith("@") else self._address
        try:
            with socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM) as line:
                line.sendto(text.encode(), address)
        except OSError as error:
            logger.warning("the supervisor could not be told '%s': %s", text, error)
