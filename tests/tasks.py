"""Tasks as a technician does them on the demo, replayed by keys in a real terminal, each with the count of its keys:
`python -m tests.tasks`. Facts that are typed (a value, a name, a file) count nothing; there is no wrong turn in any."""

import sys
import tempfile
import time
from pathlib import Path

from msgspec import Struct

from tests.terminal import KANALETO, Terminal


class Task(Struct, frozen=True):
    """What is wanted; keys, facts (in a pair of <>) and patterns to wait for (behind a ?), in their order; how many
    keys it may take, unlocking and going to the view counted."""

    what: str
    steps: tuple[str, ...]
    most: int

    @property
    def keys(self) -> int:
        return sum(not step.startswith(("?", "<")) for step in self.steps)


TASKS = (
    Task("the value of a point, its words and its chain",
         ("/", "<gate position>", "Enter", "Enter", "?as it came|in order"), 4),
    Task("which register reacts", ("m", "?changed|moved|noise"), 2),
    Task("off by one?", ("2", "z", "?one up|one down|address"), 2),
    Task("the order of the words of a float", ("2", "d", "<2.2>", "Enter", "?agree|fit|readings"), 4),
    Task("the last minutes of a point as a curve", ("p", "t", "?NOW|cursor"), 2),
    Task("all devices of one map side by side", ("a", "?devices of|ACROSS"), 2),
    Task("two devices of one map compared", ("c", "?compare|differ|the same"), 3),
    Task("the bytes of the last exchange that failed", ("4", "e", "?only what failed|no exchange has failed"), 2),
    Task("what happened, and when it was over", ("E", "?ERROR LOG"), 1),
    Task("a set point written and read back",
         ("/", "<upper sluice position target>", "Enter", "u", "w", "<55>", "?becomes 55", "Enter", "?read back"), 6),
    Task("what acts now, and all of it ended", ("H", "?nothing is held|acts"), 2),
    Task("a point more, and back", ("2", "a", "<Extra, 200, uint16>", "Enter", "?Extra", "C-z", "?undone"), 4),
    Task("the map of a device as a file", ("2", "x", "<FOLDER/map.csv>", "Enter", "?points written to"), 3),
    Task("a device that has not arrived, to be asked by a controller", ("2", "B", "?stands in at"), 3),
    Task("… and a fault of it", ("5", "Tab", "Enter", "?says nothing +since"), 4),
    Task("the addresses as the wire counts them", ("n", "?as the wire counts them"), 1),
    Task("a device by its unit ID", ("2", "Tab", "a", "?unit ID, name", "<99, Spare>", "Enter", "?Spare"), 4),
)  # fmt: skip


def replay(task: Task, terminal: Terminal, folder: Path) -> None:
    """From the list of Live with nothing filtered. Raises AssertionError with the screen."""
    terminal.type("Escape", "Escape", "3", "Escape", "Home")
    key = ""
    for step in task.steps:
        if step.startswith("?"):
            terminal.wait_pressing(step[1:], key)
        elif step.startswith("<"):
            terminal.type("C-u") if "FOLDER" in step else None
            terminal.write(step[1:-1].replace("FOLDER", str(folder)))
        else:
            time.sleep(0.7)
            key = step
            terminal.type(step)


def main() -> int:
    with tempfile.TemporaryDirectory() as folder, Terminal() as terminal:
        terminal.run(f"{KANALETO} demo")
        terminal.wait_for("Alder Lock", 60)
        time.sleep(12)
        for number, task in enumerate(TASKS, 1):
            replay(task, terminal, Path(folder))
            sys.stdout.write(f"{number:>2}  {task.keys} of {task.most} keys  {task.what}\n")
        terminal.type("C-q", "C-q")
    return 0


if __name__ == "__main__":
    sys.exit(main())
