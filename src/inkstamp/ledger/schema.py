"""The ledger's tables. Moments are whole seconds since 1970 in UTC; lists are JSON."""

from sqlalchemy import JSON, BigInteger, Column, ForeignKey, Index, Integer, MetaData, Table, Text

VERSION = 1
metadata = MetaData()

ledger = Table("ledger", metadata, Column("version", Integer, primary_key=True))

run = Table(
    "run",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("began", BigInteger, nullable=False),
    Column("ended", BigInteger),
    Column("command", Text, nullable=False),
    Column("exit_status", Integer),
)

account = Table(
    "account",
    metadata,
    Column("authority", Text, primary_key=True),
    Column("directory", Text, nullable=False),
    Column("url", Text, nullable=False),
    Column("contact", Text, nullable=False),
    Column("opened", BigInteger, nullable=False),
)

order = Table(
    "ca_order",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("certificate", Text, nullable=False),
    Column("authority", Text, nullable=False),
    Column("names", JSON, nullable=False),
    Column("state", Text, nullable=False),
    Column("url", Text, nullable=False, default=""),
    Column("edition", Integer, nullable=False),
    Column("opened", BigInteger, nullable=False),
    Column("changed", BigInteger, nullable=False),
    Index("ca_order_of_certificate", "certificate", "state"),
)

proof = Table(
    "proof",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("order_id", Integer, ForeignKey("ca_order.id"), nullable=False),
    Column("server", Text, nullable=False),
    Column("root", Text, nullable=False),
    Column("parts", JSON, nullable=False),
    Column("made", JSON, nullable=False),
)

edition = Table(
    "edition",
    metadata,
    Column("certificate", Text, primary_key=True),
    Column("number", Integer, primary_key=True),
    Column("names", JSON, nullable=False),
    Column("authority", Text, nullable=False),
    Column("issuer", Text, nullable=False),
    Column("root", Text, nullable=False),
    Column("serial", Text, nullable=False),
    Column("sha256", Text, nullable=False),
    Column("not_before", BigInteger, nullable=False),
    Column("not_after", BigInteger, nullable=False),
)

install = Table(
    "install",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("certificate", Text, nullable=False, index=True),
    Column("edition", Integer, nullable=False),
    Column("servers", JSON, nullable=False),
    Column("state", Text, nullable=False),
    Column("at", BigInteger, nullable=False),
)

event = Table(
    "event",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("at", BigInteger, nullable=False),
    Column("run", Integer, ForeignKey("run.id"), nullable=False),
    Column("certificate", Text, nullable=False, index=True),
    Column("what", Text, nullable=False),
    Column("text", Text, nullable=False),
)
