"""`python -m kanaleto.paper FILE` draws the sheet that comes as JSON on stdin."""

import sys
from pathlib import Path

import msgspec

from kanaleto.paper.drawing import write_sheet
from kanaleto.paper.look import NoPaper
from kanaleto.paper.sheets import Sheet


def main() -> int:
    try:
        write_sheet(msgspec.json.decode(sys.stdin.buffer.read(), type=Sheet), Path(sys.argv[1]))
    except (NoPaper, msgspec.DecodeError) as error:
        sys.stderr.write(f"{error}\n")
        return 1
    return 0


if __name__ == "__main__":
    sys.exit(main())
