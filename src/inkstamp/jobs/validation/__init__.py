"""Domain control validation: challenge responses placed, tested from outside, removed. Knows no keys."""

FACE = (
    "by_hand.save_files",
    "by_hand.tell_done",
    "challenge_path.Passage",
    "challenge_path.close_again",
    "challenge_path.let_through",
    "challenge_path.open_unless_open",
    "challenges.ChallengeResponder",
    "challenges.check_ways",
    "context.ValidationContext",
    "dns_records",
    "precheck.NameCheck",
    "precheck.precheck",
    "standing.StandingChange",
    "standing.StandingWish",
    "standing.put_standing",
    "standing.recover_all_standing",
    "standing.show_standing",
    "standing.take_back",
    "web_files.answers_at",
    "web_files.check_addresses",
    "web_files.check_folders",
    "web_files.put_up",
    "web_files.take_down",
    "web_files.take_down_of",
)
"""What other rooms and the command line may import from here."""
