"""Have `python -m MODULE ARGUMENT…` run in a child of `forked`, for a program that is started often.

usage: forked_ask.py SOCKET MODULE ARGUMENT…
"""

import json
import os
import socket
import sys

request = {"kind": "module", "command": sys.argv[2:], "env": dict(os.environ), "cwd": os.getcwd()}
with socket.socket(socket.AF_UNIX) as asked:
    asked.connect(sys.argv[1])
    socket.send_fds(asked, [json.dumps(request).encode() + b"\n"], [0, 1, 2])
    _, status = asked.makefile()
sys.exit(int(status))
