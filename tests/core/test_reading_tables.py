"""Tables in: what is found out, what is refused and where."""

import contextlib
import gzip
import io
import pickle
import re
import subprocess
import sys

import numpy as np
import pyarrow as pa
import pyarrow.csv
import pyarrow.feather as feather
import pyarrow.parquet as pq
import pytest

from zerotilt.core import csvdialect, guess, profiles, table
from zerotilt.core.csvdialect import Dialect
from zerotilt.core.meaning import Kind, Role
from zerotilt.core.refusal import Refused
from zerotilt.core.table import Table, convert


def read(data: bytes | str, dialect: Dialect | None = None) -> Table:
    sink = io.BytesIO()
    convert(io.BytesIO(data.encode() if isinstance(data, str) else data), sink, dialect)
    return Table(io.BytesIO(sink.getvalue()))


def refusal(data: bytes | str, dialect: Dialect | None = None) -> Refused:
    with pytest.raises(Refused) as caught:
        read(data, dialect)
    return caught.value


@pytest.mark.parametrize(
    ("text", "expected"),
    [
        ("a,b\n1,2\n3,4\n", {"delimiter": ","}),
        ("a;b\n1,5;2\n3,25;4\n", {"delimiter": ";", "decimal": ","}),
        ("a\tb\n1\tx\n2\ty\n", {"delimiter": "\t"}),
        ("a|b\n1|x\n2|y\n", {"delimiter": "|"}),
        ('a,b\n"1,234.5",x\n"2,345.0",y\n', {"thousands": ",", "decimal": "."}),
        ("a;b\n1.234,5;x\n22.345,0;y\n", {"thousands": ".", "decimal": ","}),
        ("a;b\n1 234,5;x\n22 345,0;y\n", {"thousands": " ", "decimal": ","}),
        ("a,b\n'x, y',1\n'z, w',2\n", {"quote": "'"}),
    ],
)
def test_how_a_file_is_written_is_found_out(text, expected):
    found = csvdialect.sniff(io.BytesIO(text.encode())).model_dump()
    assert {name: found[name] for name in expected} == expected


def test_numbers_are_read_under_their_marks():
    found = read("weight;note\n1.234,5;x\n22.345,0;y\n;z\n")
    assert found.numbers("weight")[:2] == pytest.approx([1234.5, 22345.0])
    assert np.isnan(found.numbers("weight")[2])


@pytest.mark.parametrize("encoding", ["utf-8", "utf-8-sig", "utf-16", "cp1252"])
def test_encodings_are_found_out(encoding):
    text = "name,value\nMünster,1\nÅlesund,2\nGdynia,3\n" * 3
    found = read(text.encode(encoding))
    assert found.texts("name")[0] == "Münster"


@pytest.mark.parametrize(
    ("text", "encoding"),
    [
        ("nombre,n\nPeña,1\nMuñoz,2\nGarcía,3\nNúñez,4\n", "latin-1"),
        ("name,n\nGröße,1\nMüller,2\nStraße,3\n", "cp1252"),
        ("nazwa,n\nŁódź,1\nGdańsk,2\nŻółw,3\nPoznań,4\n", "cp1250"),
    ],
)
def test_the_encoding_is_the_one_under_which_the_text_is_likelier(text, encoding):
    assert read(text.encode(encoding)).texts(text.split(",")[0]).tolist() == [
        line.split(",")[0] for line in text.splitlines()[1:]
    ]


@pytest.mark.parametrize(
    ("data", "message", "where"),
    [
        (b"\xef\xbb\xbf", "empty", None),
        (b"\xff\xfe", "empty", None),
        ("a,b\n" + "1,2\n" * 90_000 + "\x00,2\n", "NUL", None),
        ("a,a\u200b\n1,2\n", "look alike", "header, line 1"),
        ("é,e\u0301\n1,2\n", "look alike", "header, line 1"),
        (",".join(f"c{i}" for i in range(5_001)) + "\n" + ",".join("1" * 5_001) + "\n", "up to 5,000", None),
        ("a,b\n1," + "x" * 2_000_000 + "\n", "cell", None),
    ],
)
def test_files_that_mislead_or_never_end_are_refused(data, message, where):
    problem = refusal(data)
    assert message in problem.message
    assert where is None or problem.where == where
    assert problem.todo or message == "empty"


def test_a_line_break_in_the_header_shifts_nothing():
    found = read('"age at\nrelease",n\n31,5\n42,6\n')
    assert found.names == ["age at release", "n"] or found.names == ("age at release", "n")
    assert found.numbers("n").tolist() == [5, 6] and found.numbers("age at release").tolist() == [31, 42]


@pytest.mark.parametrize(
    ("column", "message"),
    [
        (pa.array([2**63 + 5, 1], pa.uint64()), "beyond 9,223,372,036,854,775,807"),
        (pa.array([4_000_000, 1], pa.date32()), "before the year 1 or after the year 9999"),
    ],
)
def test_columns_beyond_what_can_be_read_are_called_what_they_are(column, message):
    file = io.BytesIO()
    pq.write_table(pa.table({"n": column, "t": ["a", "b"]}), file)
    problem = refusal(file.getvalue())
    assert message in problem.message and problem.where == "column “n”"


def test_texts_with_a_nul_or_broken_bytes_in_other_formats_are_refused_by_place():
    for text in (b"a\x00b", b"\xff\xfea"):
        array = pa.StringArray.from_buffers(
            2, pa.py_buffer(np.array([0, len(text), len(text) + 1], np.int32).tobytes()), pa.py_buffer(text + b"z")
        )
        sink = io.BytesIO()
        with pa.ipc.new_stream(sink, pa.schema([("t", pa.string())])) as writer:
            writer.write_batch(pa.record_batch([array], names=["t"]))
        problem = refusal(sink.getvalue())
        assert "t" in (problem.where or "") and "SQL" not in problem.message


def test_types_come_from_all_rows_not_the_first_ones():
    rows = "\n".join(["1"] * 300_000 + ["2.5"])
    assert read(f"x,y\n{rows.replace(chr(10), ',a' + chr(10))},a\n").column("x").type == pa.float64()


def test_days_that_exist_are_dates_and_others_are_text():
    assert read("d,n\n2026-02-28,1\n,2\n2024-02-29,3\n").column("d").type == pa.date32()
    assert read("d,n\n2026-02-28,1\n2026-02-30,2\n").texts("d").tolist() == ["2026-02-28", "2026-02-30"]


def test_codes_with_leading_zeros_stay_text_and_whole_numbers_stay_whole():
    found = read("code,n\n007,1\n012,2\n")
    assert found.texts("code").tolist() == ["007", "012"]
    assert found.column("n").type == pa.int64()


@pytest.mark.parametrize(
    ("data", "message", "where"),
    [
        ("", "empty", None),
        ("   \n", "empty", None),
        ("a,b\n", "no rows", "line 2"),
        ("a,b\n1,2\n3\n", "1 values where the header has 2", "line 3"),
        ("a,b\n1,2\n3,4,5\n", "3 values where the header has 2", "line 3"),
        ('a,b\n"x\ny",2\n3\n', "1 values", "line 4"),
        ("a,b,a\n1,2,3\n", "2 columns are called “a” (columns 1, 3)", "header, line 1"),
        ("a,,c\n1,2,3\n", "Column 2 has no name", "header, line 1"),
        (b"\x00\x01\x02\x03binary\x00", "not text", None),
    ],
)
def test_bad_csv_is_refused_with_its_place(data, message, where):
    problem = refusal(data)
    assert message in problem.message
    assert problem.where == where


def test_a_wrong_encoding_names_the_line():
    data = "name,n\n" + "plain,1\n" * 40 + "Münster,2\n"
    problem = refusal(data.encode("cp1252"), Dialect(encoding="utf-8"))
    assert problem.where == "line 42"
    assert "utf-8" in problem.message


def test_other_formats_come_out_the_same():
    original = pa.table({"n": [1, 2, None], "t": ["a", None, "c"], "b": [True, False, True], "f": [0.5, 1.5, None]})
    files = {"parquet": io.BytesIO(), "feather": io.BytesIO(), "stream": io.BytesIO()}
    pq.write_table(original, files["parquet"])
    feather.write_feather(original, files["feather"], compression="uncompressed")
    with pa.ipc.new_stream(files["stream"], original.schema) as writer:
        writer.write_table(original)
    for file in files.values():
        found = read(file.getvalue())
        assert found.texts("t").tolist() == ["a", None, "c"]
        assert found.texts("b").tolist() == ["True", "False", "True"]
        assert found.numbers("n")[:2].tolist() == [1, 2]


def test_a_damaged_parquet_and_a_column_of_lists_are_refused():
    file = io.BytesIO()
    pq.write_table(pa.table({"n": range(1000)}), file)
    assert "cut off or damaged" in refusal(file.getvalue()[:-40]).message
    nested = io.BytesIO()
    pq.write_table(pa.table({"n": [[1], [2]]}), nested)
    assert refusal(nested.getvalue()).where == "column “n”"


def test_a_large_file_is_streamed():
    """Two passes over 96 MB must not hold it in memory."""
    code = (
        "import io, resource\n"
        "from zerotilt.core import table\n"
        "class Large(io.RawIOBase):\n"
        "    head, row, rows = b'a,b,c\\n', b'1234567,some text here,3.25\\n', 3_400_000\n"
        "    def __init__(self): self.at = 0; self.size = len(self.head) + len(self.row) * self.rows\n"
        "    def readable(self): return True\n"
        "    def seekable(self): return True\n"
        "    def seek(self, to, whence=0): self.at = to if whence == 0 else self.size + to; return self.at\n"
        "    def readinto(self, into):\n"
        "        n = min(len(into), self.size - self.at)\n"
        "        if n <= 0: return 0\n"
        "        if self.at < len(self.head): piece = self.head[self.at:]\n"
        "        else:\n"
        "            off = (self.at - len(self.head)) % len(self.row)\n"
        "            piece = (self.row * (n // len(self.row) + 2))[off:off + n]\n"
        "        piece = piece[:n]; into[:len(piece)] = piece; self.at += len(piece); return len(piece)\n"
        "before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss\n"
        "sink = io.BytesIO(); table.convert(Large(), sink)\n"
        "print(table.Table(sink).rows, resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before)\n"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True)
    assert done.returncode == 0, done.stderr
    rows, grown_kib = map(int, done.stdout.split())
    assert rows == 3_400_000
    assert grown_kib < 400_000


def test_kinds_and_roles_are_guessed():
    rng = np.random.default_rng(0)
    n = 100
    found = table.from_arrays(
        {
            "case_id": [f"c{i}" for i in range(n)],
            "income": rng.normal(size=n),
            "age_band": rng.choice(["16–29", "30–49", "50 and over"], n),
            "grade": rng.choice(["A", "B", "C"], n),
            "split": rng.choice(["train", "test"], n),
            "score": rng.random(n),
            "constant": ["same"] * n,
            "nothing": pa.nulls(n, pa.string()),
            "approved": rng.choice(["yes", "no"], n),
        }
    )
    columns = {column.name: column for column in guess.guess_columns(profiles.profile(found))}
    assert {name: column.role for name, column in columns.items()} == {
        "case_id": Role.identifier,
        "income": Role.feature,
        "age_band": Role.group,
        "grade": Role.feature,
        "split": Role.split,
        "score": Role.score,
        "constant": Role.ignored,
        "nothing": Role.ignored,
        "approved": Role.outcome,
    }
    assert columns["age_band"].kind is Kind.ordered
    assert columns["age_band"].order == ("16–29", "30–49", "50 and over")
    assert columns["grade"].order == ("A", "B", "C")


def test_numbers_that_never_repeat_are_features_unless_they_name_rows():
    rng = np.random.default_rng(1)
    amounts = rng.permutation(10_000)[:50] * 3
    found = table.from_arrays({"amount": amounts, "loan_no": amounts + 1, "n": np.arange(50), "y": [0, 1] * 25})
    roles = {column.name: column.role for column in guess.guess_columns(profiles.profile(found))}
    assert roles["amount"] is Role.feature
    assert roles["loan_no"] is roles["n"] is Role.identifier


def test_the_test_split_is_held_out():
    assert guess.split_values(["train", "valid", "test"]) == (("test",), ("train",))
    assert guess.split_values(["training", "validation"]) == (("validation",), ("training",))


def with_bytes(rows: int = 400) -> pa.Table:
    """Pictures, fingerprints and letters beside what an audit reads."""
    return pa.table(
        {
            "picture": pa.array([None if row % 7 == 0 else bytes([row % 256]) * (row + 1) for row in range(rows)]),
            "print": pa.array([row.to_bytes(4, "big") for row in range(rows)], pa.binary(4)),
            "letter": [f"{row} is what I paid. " * 30 for row in range(rows)],
            "amount": pa.array(np.arange(rows) % 37),
            "paid": pa.array(np.arange(rows) % 2),
        }
    )


@pytest.mark.parametrize("kind", [pa.binary(), pa.large_binary()])
def test_bytes_and_long_texts_are_kept_and_passed_by(kind):
    given = with_bytes()
    given = given.set_column(0, "picture", given["picture"].cast(kind))
    sink = io.BytesIO()
    pq.write_table(given, sink)
    found = read(sink.getvalue())
    assert found.column("picture").to_pylist() == given["picture"].to_pylist()
    profile = {column.name: column for column in profiles.profile(found).columns}
    assert (profile["picture"].stored, profile["picture"].missing) == ("binary", 58)
    assert profile["picture"].longest == 399
    assert profile["letter"].longest == len(given["letter"][399].as_py()) and profile["letter"].levels == ()
    guesses = {column.name: column for column in guess.guess_columns(profiles.profile(found))}
    assert {name: (guesses[name].kind, guesses[name].role) for name in ("picture", "print", "letter")} == {
        "picture": (Kind.bytes, Role.ignored),
        "print": (Kind.bytes, Role.ignored),
        "letter": (Kind.text, Role.ignored),
    }
    assert guesses["paid"].role is Role.outcome
    for view in (found.texts, found.numbers, found.coded):
        with pytest.raises(Refused, match="holds bytes"):
            view("picture")
    with pytest.raises(ValueError, match="“picture” holds bytes"):
        guesses["picture"].model_copy().model_validate(guesses["picture"].model_dump() | {"role": "feature"})


FOREIGN = {
    "workbook.xlsx": (b"PK\x03\x04\x14\x00\x06\x00", "an archive or a workbook"),
    "old.xls": (b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1", "an older workbook"),
    "frame.pkl": (pickle.dumps({"a": [1, 2]}), "a pickle, which is never opened here"),
    "rows.json": (b'[{"a": 1}, {"a": 2}]', "JSON"),
    "lines.jsonl": (b'{"a": 1}\n{"a": 2}\n', "JSON"),
    "table.csv.gz": (gzip.compress(b"a,b\n1,2\n"), "a compressed file"),
    "page.html": (b"<!DOCTYPE html><table><tr><td>1", "a page or XML"),
    "paper.pdf": (b"%PDF-1.7\n%", "a PDF"),
}


@pytest.mark.parametrize("name", FOREIGN)
def test_what_is_no_table_is_called_what_it_is_with_its_name(name):
    data, what = FOREIGN[name]
    with pytest.raises(Refused, match=f"This is {re.escape(what)}") as refused:
        convert(io.BytesIO(data), io.BytesIO(), name=name)
    assert refused.value.where == name and refused.value.todo


@pytest.mark.parametrize("text", ["{a},[b]\n1,2\n3,4\n", "<a>,b\n1,2\n3,4\n", "PK,b\n1,2\n3,4\n", "[a],b\n1,2\n3,4\n"])
def test_a_table_that_only_begins_oddly_is_read(text):
    sink = io.BytesIO()
    convert(io.BytesIO(text.encode()), sink)
    assert sink.tell()


@pytest.mark.parametrize("kind", ["file", "stream", "parquet"])
def test_a_name_that_is_no_text_is_refused_in_words(kind):
    found, sink = pa.table({"colour": ["a", "b"], "x": [1, 2]}), io.BytesIO()
    if kind == "parquet":
        pq.write_table(found, sink, store_schema=False)
    else:
        with (pa.ipc.new_file if kind == "file" else pa.ipc.new_stream)(sink, found.schema) as writer:
            writer.write_table(found)
    assert "bytes that are no text" in refusal(sink.getvalue().replace(b"colour", b"col\xffur")).message


@pytest.mark.parametrize("seed", range(3))
def test_no_damage_to_a_file_is_an_error_of_ours(seed):
    """Bytes changed, left out and put in, one at a time and many: it is read, or refused in words."""
    rng = np.random.default_rng(seed)
    whole = pa.table({"x": rng.normal(size=60), "g": rng.choice(["a", "b"], 60), "k": rng.integers(0, 9, 60)})
    for kind in ("parquet", "arrow", "csv"):
        sink = io.BytesIO()
        if kind == "parquet":
            pq.write_table(whole, sink)
        elif kind == "arrow":
            feather.write_feather(whole, sink, compression="uncompressed")
        else:
            pa.csv.write_csv(whole, sink)
        for _ in range(60):
            data = bytearray(sink.getvalue())
            for _ in range(rng.choice([1, 1, 3, 20])):
                place = int(rng.integers(len(data)))
                data[place : place + int(rng.integers(0, 3))] = rng.bytes(int(rng.integers(0, 3)))
            with contextlib.suppress(Refused):
                read(bytes(data) or b"x")


def read_guessed(text: str) -> tuple[pa.Table, csvdialect.Dialect, list[str]]:
    sink, notes = io.BytesIO(), []
    used = convert(io.BytesIO(text.encode()), sink, notes=notes)
    assert used is not None
    return pq.read_table(io.BytesIO(sink.getvalue())), used, notes


def test_what_alone_keeps_a_column_from_being_numbers_is_no_value_and_that_is_said():
    made, used, notes = read_guessed("dose;site\n1,5;north\n?;south\n2,25;?x\n")
    assert made["dose"].to_pylist() == [1.5, None, 2.25] and "?" in used.missing
    assert notes == ["“?” is read as no value: all else in “dose” is a number."]
    # it is a level elsewhere, or all there is, or a number itself, or beside other words
    for text, column in (
        ("dose,site\n1.5,?\n?,south\n", ["1.5", "?"]),
        ("dose,site\n?,1\n?,2\n", ["?", "?"]),
        ("dose,site\n-99,1\n3,2\n", [-99, 3]),
        ("dose,site\n?,1\n3,2\nmuch,2\n", ["?", "3", "much"]),
    ):
        made, _, notes = read_guessed(text)
        assert made["dose"].to_pylist() == column and not notes
    # what somebody has said stands
    sink = io.BytesIO()
    convert(io.BytesIO(b"dose\n1.5\n?\n"), sink, csvdialect.Dialect())
    assert pq.read_table(io.BytesIO(sink.getvalue()))["dose"].to_pylist() == ["1.5", "?"]
