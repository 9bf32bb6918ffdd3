"""What a file really is: its facts and faults, taken from the stream and never from the name."""

from .deep import DeepFacts, inspect_deep
from .facts import FACTS_VERSION, Facts, Fault, FaultCode, SoundStream
from .inspect import inspect_file
from .listed import entry_agrees, read_confirmed_list
from .many import inspect_many

__all__ = [
    "FACTS_VERSION",
    "DeepFacts",
    "Facts",
    "Fault",
    "FaultCode",
    "SoundStream",
    "entry_agrees",
    "inspect_deep",
    "inspect_file",
    "inspect_many",
    "read_confirmed_list",
]
