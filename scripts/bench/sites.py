"""Large made-up sites."""

from pathlib import Path


def map_text(count: int, first: int = 0) -> str:
    """Words and floats, a third of them scaled, two registers apart."""
    rows = "".join(
        f"Point {n},holding,{first + n * 2},{'float32' if n % 3 else 'uint16'},{'' if n % 3 else '0.1'},bar\n"
        for n in range(count)
    )
    return "name,table,address,type,factor,unit\n" + rows


def large_site(folder: Path, count: int, port: int, a_device: int = 1000, period_s: int = 1) -> Path:
    """So many points, so many a device, on one TCP line."""
    text = f'[site]\nname = "Large"\nperiod_s = {period_s}\n[[line]]\nname = "L"\nlink = "tcp://127.0.0.1:{port}"\n'
    for number in range(count // a_device):
        (folder / f"map{number}.csv").write_text(map_text(a_device))
        text += f'[[line.device]]\nname = "D{number}"\nunit_id = {number + 1}\nmap = "map{number}.csv"\n'
    site = folder / "site.toml"
    site.write_text(text)
    return site


def site_of_one_map(folder: Path, count: int, port: int = 9) -> Path:
    """So many points in one map, all read every ten seconds."""
    (folder / "map.csv").write_text(map_text(count))
    site = folder / "site.toml"
    site.write_text(
        f'[site]\nname = "One map"\nperiod_s = 10\n[[line]]\nname = "L"\nlink = "tcp://127.0.0.1:{port}"\n'
        '[[line.device]]\nname = "D"\nunit_id = 1\nmap = "map.csv"\n'
    )
    return site
