# Reads documents with parsers that share nothing with the program's. A request is a line of
# JSON, {"format", "text"}; the answer is a line of JSON: the document, or {"error"}.
import configparser, csv, io, json, sqlite3, sys, xml.etree.ElementTree as ET

try:
    import tomllib
except ImportError:
    tomllib = None
try:
    import yaml
except ImportError:
    yaml = None


def element(e):
    kids = [element(k) for k in e]
    return {"tag": e.tag, "attributes": dict(e.attrib), "text": (e.text or "").strip(), "kids": kids}


def read(format, text):
    if format == "yaml":
        return yaml.safe_load(text)
    if format == "toml":
        return tomllib.loads(text)
    if format == "json":
        return json.loads(text)
    if format == "ini":
        p = configparser.RawConfigParser(strict=True, comment_prefixes=("#", ";"), delimiters=("=",))
        p.optionxform = str
        p.read_string(text)
        return {s: dict(p.items(s)) for s in p.sections()}
    if format == "xml":
        return element(ET.fromstring(text))
    if format == "csv":
        rows = list(csv.reader(io.StringIO(text)))
        if any(len(r) != len(rows[0]) for r in rows):
            raise ValueError("ragged lines")
        return rows
    if format == "sql":
        db = sqlite3.connect(":memory:")
        db.executescript(text)
        names = [r[0] for r in db.execute("select name from sqlite_master where type = 'table' order by name")]
        return {n: {c[1]: str(c[4]).strip("'") for c in db.execute("select * from pragma_table_info(?)", (n,))} for n in names}
    raise ValueError(format)


print(json.dumps({"yaml": yaml is not None, "toml": tomllib is not None}), flush=True)
for line in sys.stdin:
    q = json.loads(line)
    try:
        answer = {"document": read(q["format"], q["text"])}
    except Exception as e:
        answer = {"error": str(e)}
    print(json.dumps(answer, default=str), flush=True)
