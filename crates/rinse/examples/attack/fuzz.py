"""Fuzzes the API by its own description: no answer of 500, none that breaks the description.

Starts a Rinse of its own with people, mailings, a trial and a series, on a free port, and ends it.
FUZZ: the schemathesis of a venv; RINSE_BIN: the binary; EXAMPLES: how many for each operation and phase.
"""

import json
import os
import pathlib
import re
import subprocess
import sys
import tempfile
import urllib.request

binary = os.environ.get("RINSE_BIN", "target/release/rinse")
fuzz = os.environ.get("FUZZ", "target/attack-venv/bin/schemathesis")
examples = os.environ.get("EXAMPLES", "150")
# What ends the base that the others need, or waits for a host that isn't there.
LEFT_OUT = r"/api/(clock/advance|message-test|webhooks/\\{id\\}/test)"


def ask(url, method, path, body=None, kind="application/json"):
    data = body if isinstance(body, bytes) else None if body is None else json.dumps(body).encode()
    request = urllib.request.Request(url + path, data=data, method=method, headers={"x-acting-person": "1", "content-type": kind})
    with urllib.request.urlopen(request) as answer:
        text = answer.read()
        return json.loads(text) if text.strip().startswith((b"{", b"[")) or text.strip().isdigit() else None


def main():
    folder = tempfile.mkdtemp()
    document = pathlib.Path(folder) / "openapi.json"
    document.write_bytes(subprocess.run([binary, "openapi"], check=True, capture_output=True).stdout)
    made = subprocess.run([binary, "demo", "--prepare", "--people", "1500", "--data", folder + "/data"], env={**os.environ, "RUST_LOG": "error"})
    if made.returncode:
        return 1
    log = open(folder + "/log", "w")
    rinse = subprocess.Popen([binary, "demo", "--listen", "127.0.0.1:0", "--data", folder + "/data"], stdout=subprocess.PIPE, stderr=log, text=True)
    try:
        url = re.search(r"http://\S+", rinse.stdout.readline()).group(0)
        ask(url, "GET", "/api/clock")
        checks = "not_a_server_error,status_code_conformance,content_type_conformance,response_schema_conformance"
        found = pathlib.Path(folder, "fuzz.txt")
        with open(found, "w") as kept:
            run = subprocess.run(
                [fuzz, "run", str(document), "--url", url, "-H", "x-acting-person: 1", "--checks", checks, "--max-examples", examples,
                 "--phases", "examples,coverage,fuzzing", "--exclude-path-regex", LEFT_OUT, "--workers", "2", "--suppress-health-check", "all",
                 "--request-timeout", "130", "--continue-on-failure", "--seed", "7", "--no-color"],
                stdout=kept, stderr=subprocess.STDOUT)
        out = found.read_text()
        alive = rinse.poll() is None
        cases = re.search(r"(\d[\d,]*) generated", out)
        print("fuzzing the API by its description")
        print("  requests:", cases.group(1) if cases else "?")
        print("  Rinse answers still:", "yes" if alive and ask(url, "GET", "/api/clock") else "NO")
        print("  what was found:", "nothing" if run.returncode == 0 else f"see {folder}/fuzz.txt")
        if run.returncode:
            print("\n".join(out.splitlines()[-60:]))
        return run.returncode if alive else 1
    finally:
        rinse.terminate()
        rinse.wait(20)


sys.exit(main())
