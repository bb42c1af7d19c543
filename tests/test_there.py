"""What is really there, against what the site says: one difference of each kind, each found and nothing else; no write,
and each question asked once."""

import json
from collections import Counter

from kanaleto.wire.codes import WRITING
from tests.commanded import run
from tests.rawends import RawSlave
from tests.test_proof import WithSite

MAP = """name,table,address,type,access,labels,setting
Level,holding,0,uint16,r,,
Gone,holding,1,uint16,r,,
Limit,holding,2,uint16,rw,,
Unit,holding,3,uint16,r,,unit_id
Lamp,coil,0,,r,0=off;1=on,
"""
LONG = "name,table,address\n" + "".join(f"R{at},holding,{at}\n" for at in range(20))
SITE = """
[site]
name = "S"
[[line]]
name = "L"
link = "tcp://127.0.0.1:{port}"
timeout_s = 0.3
retries = 2
"""
DEVICE = """[[line.device]]
name = "{name}"
unit_id = {unit}
map = "{map}"
{more}
"""


class CheckedThere(WithSite):
    def setUp(self) -> None:
        super().setUp()
        self.slave = RawSlave("tcp://x")
        self.addCleanup(self.slave.close)
        self.values = {2: 70, 3: 1}
        self.most, self.refused, self.product, self.silent = 125, set[int](), "AL-7", {9}
        self.slave.handler = self._answer
        (self.folder / "m.csv").write_text(MAP)
        (self.folder / "long.csv").write_text(LONG)
        identity = 'identity = { vendor_name = "Alder", product_code = "AL-7", revision = "2" }'
        self.site_text = SITE.format(port=self.slave.port)
        self.site_text += DEVICE.format(name="One", unit=1, map="m.csv", more=identity)
        self.site_text += DEVICE.format(name="Two", unit=2, map="long.csv", more="max_registers = 20")
        self.path.write_text(self.site_text)

    def _answer(self, unit: int, pdu: bytes) -> bytes | None:
        if unit in self.silent:
            return None
        if unit > 4 and unit != 9:
            return bytes((pdu[0] | 0x80, 0x0B))  # a gateway says that nobody is there
        if pdu[0] == 0x2B:
            objects = [b"Alder", self.product.encode(), b"2"]
            told = b"".join(bytes((number, len(text))) + text for number, text in enumerate(objects))
            return b"\x2b\x0e\x01\x01\x00\x00\x03" + told
        first, count = int.from_bytes(pdu[1:3]), int.from_bytes(pdu[3:5])
        if pdu[0] == 1:
            return b"\x01\x01\x01"
        if count > self.most or (unit == 1 and self.refused & set(range(first, first + count))):
            return bytes((pdu[0] | 0x80, 3 if count > self.most else 2))
        words = [self.values.get(at, 0) if unit == 1 else at for at in range(first, first + count)]
        return bytes((3, 2 * count)) + b"".join(word.to_bytes(2) for word in words)

    def differs(self, *words: str) -> tuple[int, list[tuple[str, str, str, str]]]:
        self.slave.seen.clear()
        code, out, _ = run("check", str(self.path), "--there", "--json", *words)
        rows = [json.loads(row) for row in out.splitlines()]
        self.assertFalse([pdu for _, pdu in self.slave.seen if pdu[0] in WRITING], "read only")
        repeated = [key for key, count in Counter(self.slave.seen).items() if count > 1]
        self.assertEqual(repeated, [], "each question once")
        return code, [
            (row["device"], row["what"], row["point"], row["outcome"]) for row in rows if row["outcome"] != "same"
        ]

    def test_as_noted(self) -> None:
        self.assertEqual(self.differs(), (0, []))

    def test_one_difference_of_each_kind_is_found_and_nothing_else(self) -> None:
        snapshots = self.folder / "s.kanaleto" / "snapshots"
        snapshots.mkdir(parents=True)
        head = "# kanaleto snapshot 1, S, 2026-05-17T03:00:00Z\ndevice,point,table,address,words,value,unit\n"
        (snapshots / "One-1.csv").write_text(head + "One,Limit,holding,2,0046,70,\n")
        self.assertEqual(self.differs(), (0, []))
        for what, change, back, expected in (
            ("answers", lambda: self.silent.add(2), lambda: self.silent.discard(2), ("Two", "answers", "", "silent")),
            ("identity", lambda: setattr(self, "product", "AL-8"), lambda: setattr(self, "product", "AL-7"),
             ("One", "identity", "", "differs")),
            ("setting", lambda: self.values.update({3: 9}), lambda: self.values.update({3: 1}),
             ("One", "setting", "Unit", "differs")),
            ("limit", lambda: setattr(self, "most", 16), lambda: setattr(self, "most", 125),
             ("Two", "limit", "", "differs")),
            ("refused", lambda: self.refused.add(1), self.refused.clear, ("One", "refused", "Gone", "differs")),
            ("parameter", lambda: self.values.update({2: 71}), lambda: self.values.update({2: 70}),
             ("One", "parameter", "Limit", "differs")),
        ):  # fmt: skip
            with self.subTest(what):
                change()
                self.assertEqual(self.differs(), (1, [expected]))
                back()
        self.silent.discard(9)
        self.assertEqual(self.differs(), (0, []), "others are only asked for when they are wanted")
        code, found = self.differs("--others")
        self.assertEqual((code, found), (1, [(f"unit {unit}", "other", "", "differs") for unit in (3, 4, 9)]))

    def test_a_silent_unit_is_asked_once_and_its_neighbours_all_the_same(self) -> None:
        self.silent.add(1)
        code, found = self.differs()
        self.assertEqual((code, found), (1, [("One", "answers", "", "silent")]))
        self.assertEqual(sum(unit == 1 for unit, _ in self.slave.seen), 1)
        self.assertEqual(sum(unit == 2 for unit, _ in self.slave.seen), 1)

    def test_chosen_devices_and_what_is_typed_wrongly(self) -> None:
        self.silent.add(1)
        self.assertEqual(self.differs("--device", "Two"), (0, []))
        for words, text in (
            (("--device", "Tow", "--there"), "did you mean 'Two'"),
            (("--others",), "belong to --there"),
        ):
            code, _, err = run("check", str(self.path), *words)
            self.assertEqual(code, 2)
            self.assertIn(text, err)
