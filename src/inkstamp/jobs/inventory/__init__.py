"""The servers and sites there are, and what they serve. Changes nothing."""

FACE = (
    "hardening_plan.SitesOfServer",
    "hardening_plan.plan_hardening",
    "hardening_plan.planned_for",
    "hardening_plan.sites_meant",
    "placement.has_place",
    "placement.serving_server",
    "placement.use_if_found",
    "site_choice.choices",
    "site_choice.names_of",
    "site_choice.picked",
    "survey.WholeSite",
    "survey.survey",
    "windows_exchange.WrittenExchange",
    "windows_exchange.write_exchange",
)
"""What other rooms and the command line may import from here."""
