"""Makes golden.json: what assignment, shares, seals, the ledger's chain and tokens must come to, worked out outside Rinse.

Only Python's standard library: SipHash-1-3 is written out from its paper (Aumasson & Bernstein 2012), the rest is hashlib and hmac.
Run it only to add cases. A case that is there never changes: people would change arms, links would stop working.
"""

import base64
import hashlib
import hmac
import json
import pathlib
import struct

M = (1 << 64) - 1


def sip13(k0, k1, data):
    v = [k0 ^ 0x736F6D6570736575, k1 ^ 0x646F72616E646F6D, k0 ^ 0x6C7967656E657261, k1 ^ 0x7465646279746573]

    def turn(x, b):
        return ((x << b) | (x >> (64 - b))) & M

    def round():
        v[0] = (v[0] + v[1]) & M; v[1] = turn(v[1], 13) ^ v[0]; v[0] = turn(v[0], 32)
        v[2] = (v[2] + v[3]) & M; v[3] = turn(v[3], 16) ^ v[2]
        v[0] = (v[0] + v[3]) & M; v[3] = turn(v[3], 21) ^ v[0]
        v[2] = (v[2] + v[1]) & M; v[1] = turn(v[1], 17) ^ v[2]; v[2] = turn(v[2], 32)

    whole = len(data) // 8 * 8
    for i in range(0, whole, 8):
        (m,) = struct.unpack("<Q", data[i:i + 8])
        v[3] ^= m; round(); v[0] ^= m
    m = int.from_bytes(data[whole:], "little") | (len(data) & 255) << 56
    v[3] ^= m; round(); v[0] ^= m
    v[2] ^= 255
    for _ in range(3):
        round()
    return v[0] ^ v[1] ^ v[2] ^ v[3]


def number(n):
    return struct.pack("<Q", n & M)


def draw(seed, what, key):
    return sip13(seed, what, number(key))


PILOT, ARM, BLOCK, CHECK, HALF = 1, 2, 3, 4, 5


def assign(seed, roster, parts):
    places = [arm for arm, n in enumerate(parts) for _ in range(n)]
    arms = {}
    for stratum in sorted({s for _, s in roster}):
        people = sorted((draw(seed, ARM, c), c) for c, s in roster if s == stratum)
        for i, (_, contact) in enumerate(people):
            block, at = divmod(i, len(places))
            order = sorted(range(len(places)), key=lambda p: draw(seed, BLOCK, (stratum << 40) ^ (block << 8) ^ p))
            arms[contact] = places[order[at]]
    return [arms[c] for c in sorted(arms)]


def on_entry(seed, contact, parts):
    place = draw(seed, ARM, contact) * sum(parts) >> 64
    upto = 0
    for arm, part in enumerate(parts):
        upto += part
        if place < upto:
            return arm


def share(salt, contact):
    return (sip13(0x52494E5345, 7, salt.encode() + b"\xff" + number(contact)) >> 11) / 2**53


def parts_digest(parts):
    h = hashlib.sha256()
    for part in parts:
        h.update(struct.pack(">Q", len(part)) + part)
    return h.hexdigest()


def seal(plan, seed, version, looks, variants, roster):
    parts = [plan.encode(), struct.pack(">Q", seed), struct.pack(">I", version)]
    for at, bound in looks:
        parts += [struct.pack(">q", at), f"{bound:.6f}".encode()]
    parts += [v.encode() for v in variants]
    for contact, stratum, arm in sorted(roster):
        parts += [struct.pack(">q", contact), struct.pack(">I", stratum), struct.pack(">Q", arm)]
    return parts_digest(parts)


def entry(salt, contact, at, texts, numbers):
    parts = [salt, struct.pack(">q", contact), struct.pack(">q", at)] + [t.encode() for t in texts]
    return parts_digest(parts + [b"" if n is None else struct.pack(">q", n) for n in numbers])


def token(key, kind, send, n):
    body = bytes([kind]) + struct.pack(">q", send) + struct.pack(">I", n)
    return body + hmac.new(key, body, hashlib.sha256).digest()[:16]


def main():
    seeds = [0, 1, 77, 2**63 - 1, 0x0123456789ABCDEF]
    roster = [[i * 7 + 1, i % 3] for i in range(41)]
    texts = ["withdrew", "unsubscribe page", "…", "Lantern Shop Ltd"]
    numbers = [1, None, 86_400_000, -5, None, 3, 0]
    first = entry(b"\x01\x02salt", 42, 1_776_364_800_000, texts, numbers)
    second = entry(b"", 43, -1, ["consented", "import", "", ""], [None] * 7)
    one = hashlib.sha256(bytes(32) + bytes.fromhex(first)).hexdigest()
    key = bytes(range(32))
    looks = [[86_400_000, 2.963_123_9], [172_800_000, 1.969]]
    golden = {
        "assign": [{"seed": s, "roster": roster, "parts": p, "arms": assign(s, roster, p)} for s in seeds for p in ([1, 1], [3, 1], [2, 1, 1, 4])],
        "on_entry": [{"seed": s, "contact": c, "parts": p, "arm": on_entry(s, c, p)} for s in seeds for c in (1, 2, 3, 999_983, 2**40) for p in ([1, 1], [1, 0, 4])],
        "rollout_check": [{"seed": s, "contacts": [c for c in range(1, 400) if draw(s, CHECK, c) % 20 == 0]} for s in seeds],
        "second_half": [{"seed": s, "contacts": [c for c in range(1, 60) if draw(s, HALF, c) & 1]} for s in seeds],
        "pilot": [{"seed": s, "size": 9, "contacts": [c for _, c in sorted((draw(s, PILOT, c), c) for c, _ in roster)[:9]]} for s in seeds],
        "share": [{"salt": salt, "contact": c, "share": share(salt, c)} for salt in ("", "spread of mailing 7", "Böe") for c in (1, 2, 12_345_678)],
        "seal": {"plan": '{"question":"?"}', "seed": 77, "version": 3, "looks": looks, "variants": ["Boats", "Gulls\u001f"],
                 "roster": [[9, 2, 1], [3, 0, 0]], "digest": seal('{"question":"?"}', 77, 3, looks, ["Boats", "Gulls\u001f"], [[9, 2, 1], [3, 0, 0]])},
        "stretch": {"seal": "ab" * 32, "place": 1, "began": 1_776_364_800_000, "parts": [1, 0, 4],
                    "digest": hashlib.sha256(("ab" * 32 + " 1 1776364800000 [1, 0, 4]").encode()).hexdigest()},
        "ledger": {"digests": [first, second], "links": [one, hashlib.sha256(bytes.fromhex(one) + bytes.fromhex(second)).hexdigest()]},
        "links": [{"kind": k, "send": s, "number": n, "token": base64.urlsafe_b64encode(token(key, k, s, n)).decode().rstrip("=")}
                  for k, s, n in ((1, 1, 0), (2, 7, 3), (3, 2**40, 0), (9, 5, 4_294_967_295))],
        "mailboxes": [{"kind": k, "send": s, "token": base64.b32encode(token(key, k, s, 0)).decode().rstrip("=").lower()} for k, s in ((4, 7), (5, 2**33))],
        "tombstone": {"address": "wren@tern.example", "hash": hmac.new(key, b"tombstone\0wren@tern.example", hashlib.sha256).hexdigest()},
    }
    pathlib.Path(__file__).with_name("golden.json").write_text(json.dumps(golden, indent=1) + "\n")


main()
