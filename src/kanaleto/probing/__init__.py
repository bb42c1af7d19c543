"""Asking what is there, one thing at a time: ports, settings, hosts, units, registers; and listening without a word."""
