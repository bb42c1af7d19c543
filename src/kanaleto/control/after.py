"""A point is watched for some seconds after it was written: whether it stays as it is, or somebody else writes it."""

import asyncio
from collections.abc import Callable

from kanaleto.control.order import Order, Result, may_read
from kanaleto.control.orders import OrderRefused, Orders
from kanaleto.control.outcomewords import hex_of, under
from kanaleto.control.permission import is_broadcast

WATCHED_S = 5.0
_EVERY_S = 0.4


async def watch(orders: Orders, result: Result, is_over: Callable[[], bool]) -> tuple[str, bool]:
    """What became of it within the watched seconds, and whether it stayed; nothing where that is not known. `is_over`
    when another write has come."""
    order: Order = result.order
    loop = asyncio.get_running_loop()
    began_s = loop.time()
    written = under(order.data, order.mask)
    reads = 0
    while loop.time() - began_s < WATCHED_S:
        await asyncio.sleep(_EVERY_S)
        if is_over():
            return "", False
        try:
            poller, device = orders.poller_of(order), orders.device_of(order)
        except OrderRefused:
            return "", False
        if is_broadcast(poller.line, order.unit_id) or not may_read(order, device):
            return "", False
        now, _ = await orders.read(order, poller, device)
        if now is None or is_over():
            continue
        reads += 1
        if under(now, order.mask) != written:
            after_s = loop.time() - began_s
            is_back = result.before is not None and under(now, order.mask) == under(result.before, order.mask)
            shown = (order.old_text if is_back else "") or hex_of(now)
            where = f"{order.name} is {'back ' if is_back else ''}at {shown} after {after_s:.1f} s"
            return f"{where}: another master writes it, or the device itself", False
    if not reads:
        return f"{order.name}: it could not be read again in {WATCHED_S:g} s", False
    shown = order.new_text or hex_of(result.after)
    return f"read back {reads + 1} times at {shown}, watched for {loop.time() - began_s:.0f} s: it stayed", True
