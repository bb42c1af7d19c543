"""What was polled as it stands, and as screens and sinks read it: the last of each block, traces, states."""
