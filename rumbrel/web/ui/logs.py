"""Logs as one JSON object a line, for programs that read them."""

import json
import logging

__all__ = ["JsonLines"]


class JsonLines(logging.Formatter):
    """Time in UTC (ISO 8601), level, name, text, and the trace of an error."""

    def format(self, record: logging.LogRecord) -> str:
        said = {
            "time": f"{self.formatTime(record, '%Y-%m-%dT%H:%M:%S')}.{int(record.msecs):03d}",
            "level": record.levelname.lower(), "name": record.name, "text": record.getMessage(),
        }  # fmt: skip
        if record.exc_info:
            said["trace"] = self.formatException(record.exc_info)
        return json.dumps(said, ensure_ascii=True)
