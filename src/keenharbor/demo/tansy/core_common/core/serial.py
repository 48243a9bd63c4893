"""Length-prefixed values in one text, as the settings table keeps them: i:5; b:1; s:3:"abc"; a:2:{key value ...}

Lengths count bytes of UTF-8. Lists are arrays with the keys 0, 1, 2 ...
"""


def dump(value):
    if value is None:
        return "N;"
    if isinstance(value, bool):
        return f"b:{int(value)};"
    if isinstance(value, int):
        return f"i:{value};"
    if isinstance(value, str):
        return f's:{len(value.encode())}:"{value}";'
    pairs = list(value.items()) if isinstance(value, dict) else list(enumerate(value))
    return f"a:{len(pairs)}:{{" + "".join(dump(k) + dump(v) for k, v in pairs) + "}"


def load(text):
    value, end = _load(text.encode(), 0)
    if end != len(text.encode()):
        raise ValueError("something follows the value")
    return value


def _load(raw, at):
    kind = raw[at : at + 1]
    if kind == b"N":
        return None, at + 2
    end = raw.index(b";" if kind in b"ib" else b":", at + 2)
    number = int(raw[at + 2 : end])
    if kind == b"i":
        return number, end + 1
    if kind == b"b":
        return bool(number), end + 1
    if kind == b"s":
        start = end + 2
        if raw[start + number : start + number + 2] != b'";':
            raise ValueError("a text's length is wrong")
        return raw[start : start + number].decode(), start + number + 2
    if kind != b"a":
        raise ValueError("unknown kind of value")
    at = end + 2
    found = {}
    for _ in range(number):
        key, at = _load(raw, at)
        found[key], at = _load(raw, at)
    if raw[at : at + 1] != b"}":
        raise ValueError("an array does not end")
    return (list(found.values()) if list(found) == list(range(number)) else found), at + 1
