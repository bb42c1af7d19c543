"""`python -m scripts.shots FOLDER NAME`: what the picture of that name shows, as FOLDER/NAME.ansi."""

import os
import sys
from pathlib import Path

os.environ |= {"TZ": "UTC", "COLORTERM": "truecolor", "TEXTUAL_COLOR_SYSTEM": "truecolor", "LANG": "C.UTF-8"}
os.environ |= {"LOGNAME": "keeper"}

from scripts.shots.clock import stand_still

stand_still()

from scripts.shots.pictures import PICTURES, made  # noqa: E402 (the clock stands before it is looked at)

if __name__ == "__main__":
    if len(sys.argv) == 1:
        print(*PICTURES)
    else:
        folder, name = Path(sys.argv[1]), sys.argv[2]
        (folder / f"{name}.ansi").write_text(made(name, folder), encoding="utf-8")
        sys.stdout.flush()
        os._exit(0)  # nothing is left to be ended in order
