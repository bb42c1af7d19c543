"""Channels (serial, TCP, memory), and one exchange: a request, its one outcome, its timing."""
