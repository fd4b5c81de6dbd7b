"""The servers and sites there are, and what they serve. Changes nothing."""

FACE = (
    "picking.choices",
    "picking.names_of",
    "picking.picked",
    "placement.has_place",
    "placement.serving_server",
    "placement.use_if_found",
    "survey.WholeSite",
    "survey.survey",
)
"""What other rooms and the command line may import from here."""
