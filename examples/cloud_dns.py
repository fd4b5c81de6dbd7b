#!/usr/bin/env python3
"""Put records into a cloud's DNS over its HTTPS API; what inkstamp tells is in docs/programs.md.

    [program.cloud]
    command = ["/usr/local/lib/inkstamp/cloud_dns.py", "https://dns.cloud.test/v1", "/etc/inkstamp/cloud.token"]

The API is made up, as simple as such APIs are: POST and DELETE /zones/ZONE/records with one record as JSON.
"""

import json
import sys
import urllib.error
import urllib.request
from pathlib import Path


def main(api: str, token_file: str) -> dict[str, object]:
    told = json.load(sys.stdin)
    method = {"put": "POST", "drop": "DELETE"}[told["action"]]
    token = Path(token_file).read_text().strip()
    for record in told["records"]:
        request = urllib.request.Request(
            f"{api}/zones/{record['zone']}/records",
            json.dumps({key: record[key] for key in ("name", "type", "value", "ttl")}).encode(),
            {"Authorization": f"Bearer {token}", "Content-Type": "application/json"},
            method=method,
        )
        try:
            urllib.request.urlopen(request, timeout=30).close()
        except urllib.error.HTTPError as error:
            if method == "DELETE" and error.code == 404:
                continue  # gone already
            return {"error": f"{record['name']}: {error.code} {error.read().decode('utf-8', 'replace')[:300]}"}
        except OSError as error:
            return {"error": f"{api}: {error}"}
    return {"done": True}


if __name__ == "__main__":
    print(json.dumps(main(*sys.argv[1:])))
