"""The site file, the map file, LINK text and counting: what is right is read, and every fault is told with its
place."""

import tempfile
import unittest
from pathlib import Path

from kanaleto.demo.start import copy_site
from kanaleto.files.loading import load_site
from kanaleto.site.counting import Numbering, from_wire, to_wire
from kanaleto.site.filefaults import FaultyFile
from kanaleto.site.links.link import FramingKind, Parity
from kanaleto.site.links.parse import parse_link
from kanaleto.site.links.serial import SerialLink
from kanaleto.site.links.tcp import TcpLink
from kanaleto.site.model import DEMAND, Site
from kanaleto.wire.codes import Table

SITE = """[site]
name = "Test"

[[line]]
name = "One"
link = "tcp://127.0.0.1:1502"

[[line.device]]
name = "Device"
unit_id = 2
map = "map.csv"
numbering = "reference"
order = "CDAB"
"""
MAP = """name,table,address,type,factor,unit,colour
Level,holding,40001,float32,,m,blue
Warmth,holding,40003,int16,0.1,°C,red
"""


class InFolder(unittest.TestCase):
    def setUp(self) -> None:
        folder = tempfile.TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.folder = Path(folder.name)

    def load(self, site: str = SITE, map_text: str | bytes = MAP) -> Site:
        (self.folder / "map.csv").write_bytes(map_text if isinstance(map_text, bytes) else map_text.encode())
        path = self.folder / "site.toml"
        path.write_text(site, encoding="utf-8")
        loaded, self.warnings = load_site(path)
        return loaded

    def faults(self, site: str = SITE, map_text: str | bytes = MAP) -> list[str]:
        with self.assertRaises(FaultyFile) as caught:
            self.load(site, map_text)
        return [f"{fault.file.name}:{fault.line}: {fault.text}" for fault in caught.exception.faults]


class SiteFiles(InFolder):
    def test_a_site_is_read_with_what_reaches_down(self) -> None:
        site = self.load(
            SITE.replace("[[line.device]]", "timeout_s = 0.4\n[[line.device]]").replace(
                "unit_id = 2", "unit_id = 2\nperiod_s = 5"
            )
        )
        device = site.lines[0].devices[0]
        self.assertEqual((device.timeout_s, device.retries), (0.4, 1))
        level, warmth = device.points
        self.assertEqual((level.address, level.codec.order.value, level.period_s), (0, "CDAB", 5))
        self.assertEqual((warmth.address, warmth.codec.decode(b"\0\xb7")), (2, 18.3))

    def test_a_period_may_stand_at_the_site_the_device_or_the_point(self) -> None:
        site = self.load(SITE.replace('name = "Test"', 'name = "Test"\nperiod_s = 7'))
        self.assertEqual([point.period_s for point in site.lines[0].devices[0].points], [7, 7])

    def test_the_demo_site_has_no_fault(self) -> None:
        site, warnings = load_site(copy_site(self.folder, 15020))
        self.assertEqual((len(site.lines), site.device_count), (3, 11))
        self.assertTrue(all(warning.is_warning for warning in warnings))

    def test_each_kind_of_fault_has_its_line(self) -> None:
        for old, new, expected in (
            ('name = "Test"', "", "site.toml:1: [site] needs name"),
            ("unit_id = 2", 'unit_id = "2"', "site.toml:10: unit_id = '2' must be a whole number"),
            ("unit_id = 2", "unit_id = 256", "site.toml:10: unit_id = 256 must be at most 255"),
            (
                "unit_id = 2",
                "unit_id = 2\nperiod = 1",
                "site.toml:11: 'period' is not known in this [[line.device]] (did you mean 'period_s'?)",
            ),
            ("unit_id = 2", 'unit_id = 2\nperiod_s = "often"', "site.toml:11: period_s = 'often': is seconds"),
            (
                "unit_id = 2",
                'unit_id = 2\nnever_read = ["holding 9-4"]',
                "site.toml:11: never_read 'holding 9-4' ends before it begins",
            ),
            ('order = "CDAB"', 'order = "ACBD"', "site.toml:13: order 'ACBD' is not known"),
            (
                '"reference"',
                '"refs"',
                "site.toml:12: numbering = 'refs' must be one of 'one', 'protocol' or 'reference'",
            ),
            ('"map.csv"', '"other.csv"', "site.toml:11: map "),
            (
                "tcp://127.0.0.1:1502",
                "tpc://127.0.0.1",
                "site.toml:6: link 'tpc://127.0.0.1': scheme 'tpc' is not known (did you mean 'tcp'?)",
            ),
            ('name = "One"', 'name = "One', "site.toml:5: is not TOML here"),
            ("[site]", f"[constants]\nA = {10**400}\n[site]", "site.toml:2: A = 1000"),
            ("[site]", "[constants]\nA = nan\n[site]", "site.toml:2: A = nan must be a finite number"),
            ("unit_id = 2", "unit_id = true", "site.toml:10: unit_id = True must be a whole number"),
            ("unit_id = 2", "unit_id = 2\nbehaves = { strickt = true }", "site.toml:11: 'strickt' is not known in"),
            ("[site]", "[[site]]", "site.toml:1: site = a list must be a table"),
        ):
            with self.subTest(new=new):
                faults = self.faults(SITE.replace(old, new, 1))
                self.assertTrue(any(fault.startswith(expected) for fault in faults), faults)

    def test_all_faults_are_told_at_once(self) -> None:
        faults = self.faults(
            SITE.replace("CDAB", "XX").replace("tcp:", "tpc:"),
            MAP.replace("float32", "float31").replace("int16", "int17"),
        )
        self.assertEqual(sorted(fault.split(":")[1] for fault in faults), ["13", "2", "3", "6"])

    def test_what_is_wrong_in_its_shape_hides_nothing_else(self) -> None:
        """Neither a value that is no TOML nor one of another sort keeps the rest from being looked at."""
        more = '[[line.device]]\nname = "Device"\nunit_id = 900\nmap = "none.csv"\n'
        for mend in (("unit_id = 2", "unit_id = 2x"), ("unit_id = 2", 'unit_id = "2"'), ("unit_id = 2", "")):
            with self.subTest(mend):
                text = SITE.replace(*mend).replace("[site]", "[site]\nperiod_s = 0.5s") + more
                faults = self.faults(text, "name,table,address,type\nA,holdin,x,uint17\n")
                message = "\n".join(faults)
                for wanted in (
                    r"site.toml:\d+: is not TOML here: period_s = 0.5s is no number",
                    r"site.toml:\d+: unit_id = 900 must",
                    r"site.toml:\d+: map '.*none.csv' does not exist", r"map.csv:2: A: table 'holdin'",
                    r"map.csv:2: A: type 'uint17'", r"map.csv:2: A: 'x' is no whole number",
                    r"site.toml:\d+: 'Device' is a device on line 'One' already", r"site.toml:\d+: .*unit_id",
                ):  # fmt: skip
                    self.assertRegex(message, wanted)
                self.assertEqual(len(faults), len(set(faults)))
                self.assertNotIn("unit ID 24", message, "a number that we have put there ourselves")

    def test_names_units_and_ports_must_be_told_apart(self) -> None:
        serial = SITE.replace("tcp://127.0.0.1:1502", "rtu://ports/a")
        faults = self.faults(serial + serial.replace('[site]\nname = "Test"\n', ""))
        self.assertTrue(any("two lines are named 'One'" in fault for fault in faults), faults)
        self.assertTrue(any("is a device on line 'One' already" in fault for fault in faults), faults)
        self.assertTrue(any("is line 'One' already" in fault for fault in faults), faults)
        twice = serial + '[[line.device]]\nname = "Other"\nunit_id = 2\n'
        self.assertTrue(any("unit ID 2 is 'Device' already" in fault for fault in self.faults(twice)))
        self.assertTrue(
            any("not in 1…247" in fault for fault in self.faults(serial.replace("unit_id = 2", "unit_id = 0")))
        )

    def test_serial_settings_that_differ_from_the_line_s(self) -> None:
        serial = SITE.replace("tcp://127.0.0.1:1502", "rtu://ports/a?baud=9600")
        faults = self.faults(serial.replace("unit_id = 2", "unit_id = 2\nbaud = 19200"))
        self.assertEqual(
            faults,
            ["site.toml:11: Device is set to baud 19200, line 'One' runs at 9600; all on one line need the same"],
        )
        self.load(serial.replace("unit_id = 2", 'unit_id = 2\nbaud = 9600\nparity = "even"'))
        self.assertIn("no serial line", self.faults(SITE.replace("unit_id = 2", "unit_id = 2\nstop = 2"))[0])

    def test_files_that_cannot_be_read(self) -> None:
        with self.assertRaisesRegex(FaultyFile, "there is no such file"):
            load_site(self.folder / "nothing.toml")
        with self.assertRaisesRegex(FaultyFile, "is a folder"):
            load_site(self.folder)
        self.assertIn(
            "map.csv:2: is not UTF-8 text; save it as UTF-8",
            self.faults(SITE, b"name,table,address\nl\xe4vel,holding,40001"),
        )

    def test_port_paths_are_beside_the_site_file(self) -> None:
        link = self.load(SITE.replace("tcp://127.0.0.1:1502", "rtu://ports/a")).lines[0].link
        assert isinstance(link, SerialLink)
        self.assertEqual(link.port, str(self.folder / "ports" / "a"))


class MapFiles(InFolder):
    def test_each_bad_cell_is_told(self) -> None:
        head = "name,table,address,type,order,factor,raw_low,raw_high,eng_low,eng_high,access,labels,bit,decimals,"
        head += "range_low,range_high,initial\n"
        for row, says in (
            (",holding,40001", "has no name"),
            ("A,holdings,40001", "table 'holdings' is not known"),
            ("A,holding,", "has no address"),
            ("A,holding,x1", "'x1' is no whole number"),
            ("A,holding,30001", "names input registers, the table says holding registers; write 40001"),
            ("A,holding,50001", "begins with 5"),
            ("A,holding,40000", "count from 1"),
            ("A,holding,465536,int32", "past the last"),
            ("A,holding,40001,int24", "type 'int24' is not known"),
            ("A,coil,1,int16", "they are bool"),
            ("A,holding,40001,int16,ABBA", "order 'ABBA' is not known"),
            ("A,holding,40001,int32,BA", "takes ABCD"),
            ("A,holding,40001,int16,,0", "factor of 0"),
            ("A,holding,40001,int16,,1.5.2", "factor '1.5.2' is no number"),
            ("A,holding,40001,int16,,0.1,0,100,0,10", "one or the other"),
            ("A,holding,40001,int16,,,0,100,0", "all four are needed"),
            ("A,holding,40001,text:4,,0.1", "takes no scale"),
            ("A,input,30001,int16,,,,,,,rw", "nobody can write them"),
            ("A,holding,40001,int16,,,,,,,x", "access 'x' is not known"),
            ("A,holding,40001,int16,,,,,,,,Open", "must read like 0=Closed"),
            ("A,holding,40001,int16,,,,,,,,,16", "must be 0…15"),
            ("A,holding,40001,int32,,,,,,,,,3", "needs a register of 16 bits"),
            ("A,holding,40001,int16,,,,,,,,,,-1", "decimals '-1'"),
            ("A,holding,40001,int16,,,,,,,,,,,9,3", "is not below"),
            ("A,holding,40001,text:2,,,,,,,,,,,,,ABC", "initial: 'ABC' has 3 characters"),
            ("A,holding,40001,int16,,,,,,,,,,,,,,,,", "has 20 cells"),
            ("A,holding,40001\nA,holding,40002", "line 2 has this name already"),
        ):
            with self.subTest(row=row):
                faults = self.faults(SITE, head + row)
                self.assertTrue(any(says in fault for fault in faults), faults)

    def test_headings(self) -> None:
        self.assertIn("lacks the column address (did you mean 'adress'?)", self.faults(SITE, "name,table,adress\n")[0])
        self.assertIn("is empty", self.faults(SITE, "")[0])
        self.assertIn("twice", self.faults(SITE, "name,table,address,name\n")[0])
        self.load(SITE, "Address;NAME;table;factor;unti\n40001;Level;Holding;0,1;m\n")
        self.assertIn("(did you mean 'unit'?)", self.warnings[0].text)

    def test_spreadsheet_habits(self) -> None:
        site = self.load(
            SITE, "\ufeffaddress;name;table;factor\r\n\r\n0x10;Level;HOLDING;0,1\r\n".replace("0x10", "40017")
        )
        point = site.lines[0].devices[0].points[0]
        self.assertEqual((point.address, point.codec.decode(b"\0\3")), (16, 0.3))

    def test_gaps_overlaps_and_forbidden_points_are_warnings(self) -> None:
        never = SITE.replace("unit_id = 2", 'unit_id = 2\nnever_read = ["holding 40009"]')
        self.load(
            never, "name,table,address,type\nA,holding,40001,int32\nB,holding,40002,int32\nC,holding,40009,int16\n"
        )
        text = " ".join(warning.text for warning in self.warnings)
        for words in ("overlaps 'A'", "a gap in the map, never read: 40004–40008", "never_read covers it"):
            self.assertIn(words, text)
        self.load(
            SITE.replace("unit_id = 2", "unit_id = 2\nmax_gap = 8"),
            "name,table,address,type\nA,holding,40001,int16\nC,holding,40009,int16\n",
        )
        text = " ".join(warning.text for warning in self.warnings)
        self.assertIn("a gap in the map, read through up to 8 long: 40002–40008", text)

    def test_periods(self) -> None:
        site = self.load(
            SITE, "name,table,address,period_s\nA,holding,40001,demand\nB,holding,40002,0\nC,holding,40003,\n"
        )
        self.assertEqual([point.period_s for point in site.lines[0].devices[0].points], [DEMAND, 0, 1])


class Links(unittest.TestCase):
    def test_what_they_say(self) -> None:
        tcp = parse_link("tcp://192.0.2.7")
        self.assertEqual(tcp, TcpLink("192.0.2.7", 502))
        self.assertEqual(parse_link("tcp://[2001:db8::7]:1502"), TcpLink("2001:db8::7", 1502))
        self.assertEqual(parse_link("rtu+tcp://gate:4001"), TcpLink("gate", 4001, FramingKind.RTU))
        link = parse_link("rtu:///dev/ttyUSB0?baud=4800&parity=none&stop=2")
        assert isinstance(link, SerialLink)
        self.assertEqual(
            (link.port, link.settings.baud, link.settings.parity, link.settings.stop),
            ("/dev/ttyUSB0", 4800, Parity.NONE, 2),
        )
        com = parse_link("rtu://COM8?baud=38400&parity=odd")
        assert isinstance(com, SerialLink)
        self.assertEqual((com.port, com.settings.parity), ("COM8", Parity.ODD))
        ascii_link = parse_link("ascii:///dev/ttyS1")
        assert isinstance(ascii_link, SerialLink)
        self.assertEqual(str(ascii_link.settings), "19200 7E1")

    def test_their_text_reads_back_the_same(self) -> None:
        for text in (
            "tcp://192.0.2.7",
            "ascii+tcp://h:1?source=192.0.2.9",
            "rtu://COM8?echo=yes&latency_ms=4",
            "ascii:///dev/a?data=8",
        ):
            link = parse_link(text)
            self.assertEqual(parse_link(str(link)), link)

    def test_faults_say_what_would_be_right(self) -> None:
        for text, says in (
            ("192.0.2.7", "has no scheme"),
            ("tcp://", "names no host"),
            ("tcp://h:0", "port '0' is not"),
            ("tcp://h:http", "port 'http' is not"),
            ("rtu+tcp://h", "needs a port"),
            ("rtu://", "names no port"),
            ("rtu:///dev/a?baud=fast", "baud 'fast' is not a whole number"),
            ("rtu:///dev/a?parity=mark", "there are none, even, odd"),
            ("rtu:///dev/a?stop=3", "stop '3' is not"),
            ("rtu:///dev/a?data=7", "RTU needs 8 data bits"),
            ("rtu:///dev/a?boud=1", "did you mean 'baud'"),
            ("rtu:///dev/a?baud=1200&baud=2400", "same key twice"),
            ("rtu:///dev/a?echo=maybe", "yes or no"),
            ("tcp://h?baud=9600", "'baud' is not known here"),
        ):
            with self.subTest(text=text), self.assertRaisesRegex(ValueError, says.replace("(", r"\(")):
                parse_link(text)


class Counting(unittest.TestCase):
    def test_there_and_back(self) -> None:
        for text, table, numbering, address in (
            ("0", Table.HOLDING, Numbering.PROTOCOL, 0),
            ("0x138", Table.INPUT, Numbering.PROTOCOL, 312),
            ("1", Table.HOLDING, Numbering.ONE, 0),
            ("40001", Table.HOLDING, Numbering.REFERENCE, 0),
            ("400001", Table.HOLDING, Numbering.REFERENCE, 0),
            ("313", Table.HOLDING, Numbering.REFERENCE, 312),
            ("465536", Table.HOLDING, Numbering.REFERENCE, 65535),
            ("00001", Table.COIL, Numbering.REFERENCE, 0),
            ("10005", Table.DISCRETE, Numbering.REFERENCE, 4),
        ):
            with self.subTest(text=text):
                self.assertEqual(to_wire(text, table, numbering), address)
                self.assertEqual(to_wire(from_wire(address, table, numbering), table, numbering), address)

    def test_what_cannot_be(self) -> None:
        for text, table, numbering in (
            ("65536", Table.HOLDING, Numbering.PROTOCOL),
            ("-1", Table.HOLDING, Numbering.PROTOCOL),
            ("0", Table.HOLDING, Numbering.ONE),
            ("00313", Table.HOLDING, Numbering.REFERENCE),
            ("10001", Table.COIL, Numbering.REFERENCE),
            ("20001", Table.INPUT, Numbering.REFERENCE),
            ("4xxxx", Table.HOLDING, Numbering.REFERENCE),
        ):
            with self.subTest(text=text), self.assertRaises(ValueError):
                to_wire(text, table, numbering)
