"""Write the timer's units as the Debian package has them: for the usual places of servers and sites.

python tools/debian/units.py FOLDER
"""

import sys
from pathlib import Path

from inkstamp.config.server_kinds import KINDS
from inkstamp.jobs.renewal.timer_units import SERVICE, TIMER, Errand, service_text, timer_text

COMMAND = ("/usr/bin/inkstamp", "--config", "/etc/inkstamp/inkstamp.toml", "renew")
CONFIGURATIONS = ("/etc/nginx", "/etc/apache2", "/etc/haproxy", "/etc/lighttpd", "/etc/postfix", "/etc/dovecot")
PLACES = ("/var/lib/inkstamp", "/var/lib/inkstamp-proofs", "/etc/inkstamp", "/run", "/var/www", "/srv")


def main() -> None:
    """Write both units into the folder that the command line names."""
    folder = Path(sys.argv[1])
    states = [each for kind in KINDS.values() for each in kind.state_folders]
    folders = sorted({*PLACES, *CONFIGURATIONS, *states})
    outermost = tuple(each for each in folders if not any(each.startswith(f"{other}/") for other in folders))
    errand = Errand(command=COMMAND, writable=outermost, as_root=True)
    (folder / SERVICE).write_text(service_text(errand))
    (folder / TIMER).write_text(timer_text())


if __name__ == "__main__":
    main()
