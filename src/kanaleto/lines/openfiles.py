"""How many connections a process may have open: as many as the system lets it."""

try:
    import resource
except ImportError:  # Windows has no such limit
    resource = None  # type: ignore[assignment]


def raise_limit() -> int:
    """Raise the limit of open files as far as it may be raised; gives what it is then, 0 where there is none."""
    if resource is None:
        return 0
    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    wanted = hard if hard != resource.RLIM_INFINITY else max(soft, 65536)
    if soft != resource.RLIM_INFINITY and soft < wanted:
        try:
            resource.setrlimit(resource.RLIMIT_NOFILE, (wanted, hard))
        except (OSError, ValueError):  # some systems hold a lower one of their own
            return soft
        return wanted
    return soft
