"""The commands as other programs call them: what they print, where, and their exit codes."""

import json
import os
import re
import signal
import socket
import subprocess
import sys
import tempfile
import unittest
from collections.abc import Iterator
from pathlib import Path

import click

from kanaleto.cli.main import kanaleto as kanaleto_group
from tests.commanded import run
from tests.test_bench import MAP, free_port


def kanaleto(*words: str, within_s: float = 240) -> tuple[int, str, str]:
    """Exit code, stdout, stderr."""
    code, out, err = run(*words, within_s=within_s)
    assert "Traceback" not in err, err
    return code, out, err


class WithSite(unittest.TestCase):
    """A served site: a TCP line and a serial line, two units each; one unit of each line is not there."""

    folder: Path
    tcp: str
    serial: str
    site: Path
    server: subprocess.Popen[str]

    @classmethod
    def setUpClass(cls) -> None:
        folder = tempfile.TemporaryDirectory()
        cls.addClassCleanup(folder.cleanup)
        cls.folder = Path(folder.name)
        (cls.folder / "map.csv").write_text(MAP)
        cls.tcp = f"tcp://127.0.0.1:{free_port()}"
        cls.serial = f"rtu://{cls.folder}/port?baud=38400"
        device = '[[line.device]]\nname = "{0}"\nunit_id = {1}\nmap = "map.csv"\nperiod_s = 0.2\n'
        line = '[[line]]\nname = "{0}"\nlink = "{1}"\ntimeout_s = 0.6\n'
        served = '[site]\nname = "Test"\n' + line.format("Net", cls.tcp) + device.format("N5", 5)
        served += line.format("Wires", cls.serial) + device.format("W5", 5)
        cls.site = cls.folder / "site.toml"
        cls.site.write_text(served + device.format("W9", 9))
        (cls.folder / "served.toml").write_text(served)
        cls.server = subprocess.Popen(
            [sys.executable, "-m", "kanaleto", "serve", str(cls.folder / "served.toml")],
            stdout=subprocess.PIPE,
            text=True,
        )
        assert cls.server.stdout is not None
        assert cls.server.stdout.readline() == "ready\n"

    @classmethod
    def tearDownClass(cls) -> None:
        cls.server.send_signal(signal.SIGTERM)
        assert cls.server.wait(timeout=120) == 0
        assert cls.server.stdout is not None
        cls.server.stdout.close()
        assert not os.path.lexists(cls.folder / "port")


class ReadAndWrite(WithSite):
    def test_read_prints_address_words_and_value(self) -> None:
        for link in (self.tcp, self.serial):
            code, out, _ = kanaleto(
                "read", link, "holding", "40001", "--numbering", "reference", "--unit", "5", "--count", "3"
            )
            self.assertEqual(code, 0)
            self.assertEqual(out.splitlines(), ["40001 (0)  000A  10", "40002 (1)  0014  20", "40003 (2)  001E  30"])

    def test_read_json(self) -> None:
        code, out, _ = kanaleto(
            "read", self.tcp, "input", "5", "--unit", "5", "--type", "int32", "--factor", "0.1", "--json"
        )
        record = json.loads(out)
        self.assertEqual(code, 0)
        self.assertEqual(
            [record[key] for key in ("unit_id", "table", "address", "words", "values")],
            [5, "input", 5, [65535, 65534], [-0.2]],
        )
        self.assertRegex(record["at"], r"^\d{4}-\d\d-\d\dT[\d:.]+Z$")
        code, out, _ = kanaleto("read", self.tcp, "coil", "0", "--unit", "5", "--count", "2", "--json")
        self.assertEqual(json.loads(out)["bits"], [1, 0])

    def test_write_and_verify(self) -> None:
        code, out, _ = kanaleto(
            "write",
            self.serial,
            "holding",
            "2",
            "-12.5",
            "--unit",
            "5",
            "--type",
            "int16",
            "--factor",
            "0.1",
            "--verify",
        )
        self.assertEqual(
            (code, out.startswith("wrote holding register from 2"), "read back the same" in out), (0, True, True), out
        )
        code, out, _ = kanaleto("write", self.tcp, "coil", "0", "off", "--unit", "5", "--json", "--multiple")
        record = json.loads(out)
        self.assertEqual((record["bits"], record["verified"]), ([0], None))
        code, out, _ = kanaleto("read", self.serial, "holding", "2", "--unit", "5", "--type", "int16", "--json")
        self.assertEqual(json.loads(out)["values"], [-125])

    def test_mask_write(self) -> None:
        kanaleto("write", self.tcp, "holding", "2", "0x0012", "--unit", "5")
        code, out, error = kanaleto(
            "write", self.tcp, "holding", "2", "--and", "0xF2", "--or", "0x25", "--unit", "5", "--verify"
        )
        self.assertEqual((code, "read back the same" in out), (0, True), error)
        kanaleto("write", self.tcp, "holding", "2", "--or", "0x8000", "--unit", "5")
        _, out, _ = kanaleto("read", self.tcp, "holding", "2", "--unit", "5", "--type", "hex")
        self.assertIn("8017", out)
        code, _, error = kanaleto("write", self.tcp, "holding", "2", "7", "--or", "1", "--unit", "5")
        self.assertEqual((code, "take no VALUE" in error), (2, True))
        kanaleto("write", self.tcp, "holding", "2", "30", "--unit", "5")

    def test_raw_and_identify(self) -> None:
        code, out, _ = kanaleto("raw", self.tcp, "03", "0000", "0001", "--unit", "5")
        self.assertEqual(code, 0)
        self.assertRegex(out, r"sent  00 01 00 00 00 06 05 03 00 00 00 01\ncame  00 01 00 00 00 05 05 03 02 ")
        code, out, error = kanaleto("raw", self.serial, "41", "01", "--unit", "5", "--json")
        self.assertEqual((code, json.loads(out)["exception"]), (1, 1), error)
        code, out, _ = kanaleto("identify", self.serial, "--unit", "5", "--json")
        self.assertEqual(code, 0)
        record = json.loads(out)
        self.assertEqual(
            (record["objects"]["product_code"], record["server_id"], record["running"]), ("W5", "W5", True)
        )
        code, _, error = kanaleto("identify", self.serial, "--unit", "0")
        self.assertEqual((code, "1…247" in error), (2, True))

    def test_each_failure_is_one_line_and_exit_code_1(self) -> None:
        gone = f"tcp://127.0.0.1:{free_port()}"
        for words, kind, code, says in (
            ((self.tcp, "holding", "9", "--unit", "5"), "exception", 2, "illegal data address"),
            ((self.serial, "holding", "0", "--unit", "77", "--timeout", "0.3"), "timeout", None, "nothing came within"),
            ((gone, "holding", "0"), "unreachable", None, "nothing listens"),
            ((f"rtu://{self.folder}/nothing", "holding", "0"), "unreachable", None, "is the adapter plugged in?"),
        ):
            with self.subTest(kind=kind):
                status, out, error = kanaleto("read", *words, "--json")
                told = json.loads(out)["error"]
                self.assertEqual((status, told["kind"], told["code"]), (1, kind, code))
                self.assertEqual(len(error.splitlines()), 1)
                self.assertIn(says, error)

    def test_wrong_usage_is_one_line_and_exit_code_2(self) -> None:
        for words, says in (
            (("read", "tpc://h", "holding", "0"), "did you mean 'tcp'"),
            (("read", self.tcp, "register", "0"), "'register' is not one of"),
            (("read", self.tcp, "holding", "70000"), "not in 0…65535"),
            (("read", self.tcp, "holding", "30001", "--numbering", "reference"), "write 40001"),
            (("read", self.tcp, "holding", "0", "--type", "int24"), "int24"),
            (("read", self.tcp, "coil", "0", "--type", "int16"), "they are bool"),
            (("read", self.tcp, "holding", "0", "--factor", "0"), "factor of 0"),
            (("read", self.serial, "holding", "0", "--unit", "0"), "1…247"),
            (("write", self.tcp, "input", "0", "1"), "nobody can write"),
            (("write", self.tcp, "holding", "0", "70000"), "does not fit"),
            (("write", self.tcp, "coil", "0", "maybe"), "no state of a coil"),
            (("write", self.tcp, "holding", "0", *["1"] * 124), "allows 1…123"),
            (("write", self.tcp, "holding", "0", "1", "--nonsense"), "--nonsense"),
            (("pol", "site"), "did you mean 'poll'"),
            (("poll",), "SITE"),
            (("nothing.toml",), "there is no such file"),
        ):
            with self.subTest(words=words):
                status, out, error = kanaleto(*words)
                self.assertEqual((status, out, len(error.splitlines())), (2, "", 1), error)
                self.assertIn(says, error)

    def test_every_marks_what_changed(self) -> None:
        words = [
            sys.executable,
            "-m",
            "kanaleto",
            "read",
            self.tcp,
            "holding",
            "0",
            "--unit",
            "5",
            "--every",
            "0.5",
            "--times",
            "200",
        ]
        reading = subprocess.Popen(words, stdout=subprocess.PIPE, text=True)
        assert reading.stdout is not None
        lines = [reading.stdout.readline() for _ in range(2)]
        kanaleto("write", self.tcp, "holding", "0", "4321", "--unit", "5")
        while "← changed" not in lines[-1] and len(lines) < 400:
            lines.append(reading.stdout.readline())
        reading.terminate()
        reading.stdout.close()
        self.assertEqual(reading.wait(timeout=120), 0)
        self.assertEqual(sum("← changed" in line for line in lines), 1, lines)
        kanaleto("write", self.tcp, "holding", "0", "10", "--unit", "5")


class PollAndServe(WithSite):
    def test_a_site_with_nothing_to_ask_has_not_failed(self) -> None:
        empty = self.folder / "empty.toml"
        empty.write_text(f'[site]\nname = "Empty"\n[[line]]\nname = "Net"\nlink = "{self.tcp}"\n')
        self.assertEqual(kanaleto("poll", str(empty), "--for", "0.3")[0], 0)

    def test_samples_and_summary_in_json(self) -> None:
        for seconds in ("2.5", "20", "90"):  # a machine may stand still for a while
            code, out, error = kanaleto("poll", str(self.site), "--for", seconds, "--json")
            self.assertEqual(code, 0, error)
            *records, last = [json.loads(line) for line in out.splitlines()]
            samples = [record for record in records if "point" in record]
            failures = [record for record in records if "error" in record]
            devices = last["summary"]["devices"]
            if devices["N5"]["good"] > 20 and devices["W5"]["good"] and devices["W9"]["failed"]:
                break
        sample = next(record for record in samples if (record["device"], record["point"]) == ("W5", "D"))
        expected = {"line": "Wires", "value": -2, "unit": "", "quality": "good", "reason": "", "words": [65535, 65534]}
        self.assertEqual({key: sample[key] for key in expected}, expected)
        self.assertEqual({(record["device"], record["error"]["kind"]) for record in failures}, {("W9", "timeout")})
        summary = last["summary"]
        self.assertEqual(summary["exchanges"], summary["good"] + summary["failed"])
        self.assertEqual(summary["devices"]["W9"]["good"], 0)
        self.assertGreater(summary["devices"]["N5"]["good"], 20)

    def test_a_signal_ends_it_with_the_summary_as_0(self) -> None:
        polling = subprocess.Popen(
            [sys.executable, "-m", "kanaleto", "poll", str(self.site)],
            stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL,
            text=True,
        )
        assert polling.stdout is not None
        self.assertIn("N5", polling.stdout.readline())
        polling.send_signal(signal.SIGINT)
        out, _ = polling.communicate(timeout=120)
        self.assertEqual(polling.returncode, 0)
        self.assertRegex(out, r"\d+ exchanges, \d+ good, \d+ failed\n  Net: ")

    def test_not_one_good_sample_is_exit_code_1(self) -> None:
        path = self.folder / "dead.toml"
        path.write_text(f'[site]\nname = "D"\n[[line]]\nname = "L"\nlink = "tcp://127.0.0.1:{free_port()}"\n'
                        '[[line.device]]\nname = "X"\nunit_id = 1\nmap = "map.csv"\n')  # fmt: skip
        code, out, error = kanaleto("poll", str(path), "--for", "0.5")
        self.assertEqual(code, 1)
        self.assertIn("nothing listens", error)
        self.assertIn("not one good sample", error)
        self.assertIn("0 exchanges", out)

    def test_serving_on_a_port_in_use(self) -> None:
        code, out, error = kanaleto("serve", str(self.folder / "served.toml"), "--for", "1")
        self.assertEqual((code, out, len(error.splitlines())), (1, "", 1))
        self.assertIn("in use by another program", error)

    def test_check(self) -> None:
        code, out, error = kanaleto("check", str(self.site))
        self.assertEqual((code, error), (0, ""))
        self.assertIn("no fault", out)
        bad = self.folder / "bad.csv"
        bad.write_text("name,table,address\nA,holding,x\nB,holdings,1\n")
        code, out, error = kanaleto("check", str(bad))
        self.assertEqual(code, 2)
        self.assertEqual([line.split(": ")[0].rpartition(":")[2] for line in error.splitlines()[:2]], ["2", "3"])


class Demo(unittest.TestCase):
    def test_headless(self) -> None:
        lines = [
            rf"  {line}: \d+ exchanges, [1-9]\d* good, \d+ failed" for line in ("East line", "West line", "Cabinet")
        ]
        for seconds in ("5", "30", "90"):  # a machine may stand still for a while
            code, out, error = kanaleto("demo", "--headless", "--for", seconds)
            if all(re.search(line, out) for line in lines):
                break
        self.assertEqual(code, 0, error)
        self.assertRegex(out, r"^\d+ exchanges, \d+ good, \d+ failed\n")
        for line in lines:
            self.assertRegex(out, line)

    def test_it_takes_another_port_when_its_own_is_in_use(self) -> None:
        with socket.socket() as taken:
            taken.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            try:
                taken.bind(("127.0.0.1", 15020))
                taken.listen()
            except OSError:
                pass  # somebody holds it already, which serves as well
            code, out, error = kanaleto("demo", "--headless", "--for", "2")
        self.assertEqual(code, 0, error)
        self.assertRegex(out, r"Cabinet: \d+ exchanges, [1-9]\d* good")

    def test_help_of_every_command_has_an_example_and_its_exit_codes(self) -> None:
        count = 0
        for title, command, parent in _all_commands():
            context = click.Context(command, info_name=title.split()[-1], parent=parent, terminal_width=100)
            text = command.get_help(context)
            with self.subTest(title):
                self.assertRegex(text, rf"Example[^\n]*\n(\s+.*\n)*?\s+{title} ")
                self.assertRegex(text, r"Exit\s+codes?\b")
            count += 1
        self.assertGreater(count, 30)


def _all_commands(
    title: str = "kanaleto", group: click.Group = kanaleto_group, parent: click.Context | None = None
) -> Iterator[tuple[str, click.Command, click.Context]]:
    context = click.Context(group, info_name=title.split()[-1], parent=parent)
    for name in group.list_commands(context):
        command = group.get_command(context, name)
        assert command is not None
        yield f"{title} {name}", command, context
        if isinstance(command, click.Group):
            yield from _all_commands(f"{title} {name}", command, context)


class Find(WithSite):
    def test_units_registers_and_a_draft(self) -> None:
        code, out, _ = kanaleto("find", self.serial, "--units", "1-12", "--json")
        found = [json.loads(row) for row in out.splitlines()]
        self.assertEqual((code, [row["unit_id"] for row in found]), (0, [5]))
        draft = self.folder / "draft.csv"
        code, out, err = kanaleto(
            "find",
            self.tcp,
            "--unit",
            "5",
            "--registers",
            "--to",
            "60",
            "--draft",
            str(draft),
            "--json",
            "--never",
            "holding 0",
        )
        tables = {row["table"]: row for row in map(json.loads, out.splitlines()) if "table" in row}
        self.assertEqual(code, 0, err)
        self.assertTrue(tables["holding"]["over"])
        self.assertNotIn(0, [at for first, last in tables["holding"]["runs"] for at in range(first, last + 1)])
        self.assertEqual(kanaleto("check", str(draft))[0], 0)

    def test_a_survey_is_kept_and_gone_on_with(self) -> None:
        kept = self.folder / "survey.json"
        words = ("find", self.tcp, "--unit", "5", "--registers", "--to", "60", "--resume", str(kept), "--json")
        kanaleto(*words, "--limit", "5")
        code, out, _ = kanaleto(*words)
        again = [json.loads(row) for row in out.splitlines()]
        whole = [json.loads(row) for row in kanaleto(*words[:5], "--to", "60", "--json")[1].splitlines()]
        self.assertEqual(code, 0)
        runs = [[row.get("runs") for row in rows if "table" in row] for rows in (again, whole)]
        self.assertEqual(runs[0], runs[1])
        kept.write_text("{}")
        code, _, err = kanaleto(*words)
        self.assertEqual(code, 2)
        self.assertIn("is no survey of registers", err)

    def test_hosts_ports_and_what_is_wrong(self) -> None:
        port = self.tcp.rsplit(":", 1)[1]
        code, out, _ = kanaleto("find", "--hosts", f"127.0.0.1-2:{port}", "--json")
        self.assertEqual((code, [json.loads(row)["state"] for row in out.splitlines()]), (0, ["answers", "refused"]))
        self.assertEqual(kanaleto("find", "--adapters")[0], 0)
        self.assertIn(kanaleto("find", "--ports")[0], (0, 1))
        for words, code, reason in (
            ((), 2, "name a LINK"),
            (("tcp://127.0.0.1:9",), 1, "refused the connection"),
            (("rtu:///dev/nope", "--settings"), 1, "there is no port"),
            (("tcp://127.0.0.1:9", "--settings"), 2, "for serial lines"),
            (("tcp://127.0.0.1:9", "--listen", "1"), 2, "nobody hears"),
            ((self.serial, "--units", "0-3"), 2, "unit 0 cannot answer"),
            ((self.serial, "--units", "9-3"), 2, "the lower first"),
            ((self.serial, "--units", "60-61"), 1, "none found"),
            ((self.tcp, "--registers", "--never", "pump 3"), 2, "the tables are coil"),
            ((self.tcp, "--unit", "5", "--directory"), 1, "no directory"),
            ((self.tcp, "--unit", "5", "--directory", "--marker", "odd"), 2, "even number"),
            (("--hosts", "10.0.0.0/4"), 2, "4096 at most"),
            ((self.tcp, "--registers", "--listen", "3"), 2, "two different things"),
        ):
            with self.subTest(words):
                got, _, err = kanaleto("find", *words)
                self.assertEqual(got, code, err)
                self.assertIn(reason, err)
