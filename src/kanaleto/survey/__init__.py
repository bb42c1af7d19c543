"""Getting an answer at all: ports, settings, hosts, units, registers, and listening without a word. Nothing here writes
or broadcasts."""
