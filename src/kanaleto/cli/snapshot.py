"""`kanaleto snapshot`: what devices hold, saved, compared and written back."""

from pathlib import Path

import click

from kanaleto.cli.askingsession import AskingSession
from kanaleto.cli.completing import device_names
from kanaleto.cli.failures import Failed
from kanaleto.cli.options import usage
from kanaleto.cli.output import iso, say
from kanaleto.cli.progress import Progress
from kanaleto.control.control import Control
from kanaleto.control.lock import Lock
from kanaleto.control.order import Consent, Order, Result
from kanaleto.control.orders import OrderRefused
from kanaleto.control.snapshots import (
    Held,
    SnapshotDiff,
    as_text,
    differences,
    for_device,
    load,
    orders_for,
    restore,
    save,
    take,
    writable,
)
from kanaleto.files.beside import folder_beside
from kanaleto.files.loading import load_site
from kanaleto.keeping.kept import Kept
from kanaleto.polling.session import Session
from kanaleto.site.counting import Numbering
from kanaleto.site.filefaults import suggestion
from kanaleto.site.model import Site
from kanaleto.site.ranges import parse_range


@click.group("snapshot")
def command() -> None:
    """What devices hold: save it, compare it, write it back. Reading alone, but for `restore`.

    \b
    Example: a drive's parameters before and after
      kanaleto snapshot save alder-lock.toml --device "Upper sluice" before.csv
      kanaleto snapshot diff alder-lock.toml before.csv
      kanaleto snapshot restore alder-lock.toml before.csv --dry
    """


_DEVICES = click.option(
    "--device",
    "names",
    multiple=True,
    metavar="NAME",
    shell_complete=device_names,
    help="these only; all where none is named",
)
_SITE = click.argument("site_path", metavar="SITE", type=click.Path(path_type=Path))
_FILE = click.argument("file", type=click.Path(path_type=Path, dir_okay=False))


def _devices(site: Site, names: tuple[str, ...]) -> list[str]:
    known = [device.name for _, device in site.devices()]
    for name in names:
        if name not in known:
            raise click.UsageError(f"there is no device {name!r}{suggestion(name, known)}")
    return list(names) or known


@command.command("save")
@_SITE
@_DEVICES
@click.option(
    "--range", "range_texts", multiple=True, metavar="RANGE", help="registers, as 'holding 0-99', counted from 0"
)
@_FILE
def save_command(site_path: Path, names: tuple[str, ...], range_texts: tuple[str, ...], file: Path) -> int:
    """Save what devices of SITE hold to FILE (CSV): their points, or the registers of --range.

    \b
    Example:
      kanaleto snapshot save alder-lock.toml --device "Bollard heaters" --range "holding 100-110" heaters.csv
    """
    site, _ = load_site(site_path)
    devices = _devices(site, names)
    ranges = [usage(lambda text=text: parse_range(text, Numbering.PROTOCOL, "--range")) for text in range_texts]  # type: ignore[misc]
    taken: list[tuple[list[Held], list[str]]] = []

    async def work(session: Session) -> None:
        taken.append(await take(session, devices, ranges, progress.step))

    progress = Progress()
    AskingSession(site).run(work)
    progress.done()
    rows, failed = taken[0] if taken else ([], ["stopped"])
    for why in failed:
        say(why, err=True)
    if not rows:
        raise Failed("nothing could be read, so nothing was saved")
    try:
        save(file, as_text(site.name, iso(), rows))
    except OSError as error:
        raise Failed(f"{file} cannot be written: {error.strerror}") from None
    say(f"{len(rows)} values of {len({row.device for row in rows})} devices saved to {file}", err=True)
    return 1 if failed else 0


@command.command("diff")
@_SITE
@_FILE
@click.argument("other", required=False, type=click.Path(path_type=Path, dir_okay=False))
@_DEVICES
@click.option("--from", "of", metavar="NAME", help="the device of FILE whose values are meant, for another --device")
@click.option("--writable", "is_writable", is_flag=True, help="only what can be written: set points, not measurements")
def diff_command(
    site_path: Path, file: Path, other: Path | None, names: tuple[str, ...], of: str | None, is_writable: bool
) -> int:
    """What differs between FILE and what stands there now, or between FILE and OTHER. Exit code 1 where something
    does.

    \b
    Example: is the lower sluice set as the upper one was?
      kanaleto snapshot diff alder-lock.toml upper.csv --device "Lower sluice" --from "Upper sluice" --writable
    """
    site, _ = load_site(site_path)
    ones = _chosen(load(file), site, names, of)
    ones = writable(site, ones) if is_writable else ones
    others = _chosen(load(other), site, names, of) if other is not None else _now(site, ones)
    others = writable(site, others) if is_writable else others
    found = differences(ones, others)
    for difference in found:
        say(_difference_text(difference))
    say(f"{len(found)} of {len(ones)} differ", err=True)
    return 1 if found else 0


def _chosen(rows: list[Held], site: Site, names: tuple[str, ...], of: str | None) -> list[Held]:
    if not names:
        return rows
    _devices(site, names)
    return [row for name in names for row in for_device(rows, name, of or "")]


def _now(site: Site, rows: list[Held]) -> list[Held]:
    """What stands there now where the rows are."""
    found: list[Held] = []
    devices = {row.device for row in rows}
    bare = {
        (row.table, row.address, row.address + len(row.data) // (1 if row.table.is_bits else 2) - 1)
        for row in rows
        if not row.point
    }

    async def work(session: Session) -> None:
        taken, failed = await take(session, [*devices], on_step=progress.step)
        if bare:
            more, also = await take(session, [*devices], sorted(bare, key=lambda one: (one[0].value, one[1])))
            taken, failed = [*taken, *(row for row in more if not row.point)], [*failed, *also]
        found.extend(taken)
        for why in failed:
            say(why, err=True)

    progress = Progress()
    AskingSession(site).run(work)
    progress.done()
    keys = {row.key for row in rows}
    return [row for row in found if row.key in keys]


def _difference_text(difference: SnapshotDiff) -> str:
    held = difference.held
    name = f"{held.device}/{held.point or f'{held.table.value} {held.address}'}"
    return f"{name}: {_value(difference.one)} → {_value(difference.other)}"


def _value(held: Held | None) -> str:
    if held is None:
        return "not there"
    words = held.data.hex(" ", 2).upper() if not held.table.is_bits else " ".join(map(str, held.data))
    return f"{held.value} {held.unit} ({words})" if held.value else words


@command.command("restore")
@_SITE
@_FILE
@_DEVICES
@click.option("--from", "of", metavar="NAME", help="the device of FILE whose values are meant, for another --device")
@click.option("--dry", "is_dry", is_flag=True, help="write nothing: say what would be written")
@click.option("--yes", "is_yes", is_flag=True, help="confirm what the site wants confirmed")
@click.option(
    "--although-changed", "although_changed", is_flag=True,
    help="write also where the device is not the one that the site knows (its tag, its identification, its adapter)",
)  # fmt: skip
def restore_command(
    site_path: Path,
    file: Path,
    names: tuple[str, ...],
    of: str | None,
    is_dry: bool,
    is_yes: bool,
    although_changed: bool,
) -> int:
    """Write back what FILE has and does not stand there now, in its order; what could not be written is reported.

    \b
    Example:
      kanaleto snapshot restore alder-lock.toml before.csv --device "Upper sluice"
    """
    if click.get_current_context().find_root().obj and not is_dry:
        raise click.UsageError("--read-only: kanaleto snapshot restore writes to devices")
    site, _ = load_site(site_path)
    rows = _chosen(load(file), site, names, of)
    now = {row.key: row for row in _now(site, rows)}
    differ = [row for row in rows if (standing := now.get(row.key)) is None or standing.data != row.data]
    can_be = writable(site, differ)
    orders, left = orders_for(site, can_be)
    if len(can_be) < len(differ):
        left.append(f"{len(differ) - len(can_be)} values that are only read")
    if is_dry:
        for order in orders:
            say(f"would write {order.device}/{order.name}: {order.data.hex(' ', 2).upper()} {order.new_text}")
        for why in left:
            say(f"left: {why}", err=True)
        return 0
    if is_yes:
        orders = [order.with_consent(Consent.CONFIRM) for order in orders]
    results: list[Result] = []
    asked = AskingSession(site)
    session = asked.session
    kept = Kept(
        "kanaleto snapshot", session.events, session.clock, lambda _, text: say(text, err=True) if text else None
    )
    folder = folder_beside(site_path)
    control = Control(session, Lock(consents=True), kept.ledger, lambda: folder)

    async def work(session: Session) -> None:
        agreed = orders
        if although_changed:
            agreed = await _although_changed(control, orders)
        results.extend(await restore(control.orders, agreed, lambda result: _tell(result)))

    kept.start(site.path, site)
    try:
        asked.run(work)
    finally:
        kept.stop()
    for why in left:
        say(f"left: {why}", err=True)
    well = sum(result.is_well for result in results)
    say(f"{well} of {len(can_be)} written, {len(rows) - len(differ)} stood there already", err=True)
    if well < len(orders):
        raise Failed("")
    return 0


async def _although_changed(control: Control, orders: list[Order]) -> list[Order]:
    """With consent where a device is not as it was; what differs is reported."""
    by_device: dict[str, str] = {}
    for order in orders:
        if order.device in by_device:
            continue
        try:
            by_device[order.device] = await control.orders.differs(order)
        except OrderRefused as why:
            by_device[order.device] = str(why)
        if by_device[order.device]:
            say(f"{by_device[order.device]}; written all the same, as --although-changed says", err=True)
    return [order.with_consent(Consent.DEVICE) if by_device.get(order.device) else order for order in orders]


def _tell(result: Result) -> None:
    way = "; --although-changed writes it all the same" if result.needs is Consent.DEVICE else ""
    say(
        f"{result.order.device}/{result.order.name}: {result.order.new_text}: {result.text}{way}",
        err=not result.is_well,
    )
