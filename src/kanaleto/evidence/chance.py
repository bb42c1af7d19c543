"""How likely something is by chance."""

from math import exp, lgamma


def at_least(hits: int, drawn: int, marked: int, total: int) -> float:
    """How likely at least so many of the marked ones are among those drawn (hypergeometric)."""
    if hits <= max(0, drawn + marked - total):
        return 1.0
    most = min(drawn, marked)
    return min(sum(exp(_log_chance(count, drawn, marked, total)) for count in range(hits, most + 1)), 1.0)


def of_run(share: float, length: int, of: int) -> float:
    """About how likely so many failures come one behind the other where each fails by itself."""
    return of * (1 - share) * share**length


def _log_chance(hits: int, drawn: int, marked: int, total: int) -> float:
    return _log_choose(marked, hits) + _log_choose(total - marked, drawn - hits) - _log_choose(total, drawn)


def _log_choose(of: int, count: int) -> float:
    return lgamma(of + 1) - lgamma(count + 1) - lgamma(of - count + 1)
