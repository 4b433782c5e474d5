"""The trace that the code that runs is in (W3C Trace Context): servers set it for handlers, clients pass it on."""

from __future__ import annotations

from contextvars import ContextVar

from . import web

current_trace: ContextVar[web.Trace | None] = ContextVar("current_trace", default=None)
