"""Who may do what: each role may do what those before it may, but for `upload`, which only sends things in."""

from __future__ import annotations

ROLES = ("upload", "reader", "reviewer", "builder", "admin")
_UPLOAD = {"items.upload", "questions.send_event", "items.get_run"}
_REVIEWER = {
    "records.check",
    "records.approve",
    "records.refuse",
    "corrections.correct",
    "questions.answer",
    "links.link",
    "items.upload",
    "items.cancel_run",
    "items.continue_run",
    "items.continue_parked",
    "again.run_again",
    "again.pause_run",
    "again.settle_repeats",
    "questions.send_event",
    "intakes.take_one",
    "judgements.correct",
    "models.estimate_file",
}
_BUILDER = {
    "again.run_set",
    "again.run_again_from",
    "again.cancel_runs",
    "corrections.take_back",
    "corrections.take_back_version",
    "items.move_run",
    "flows.put_flow",
    "flows.check_flow",
    "flows.put_passwords",
    "flows.switch",
    "flows.try_flow",
    "carrying.take",
    "carrying.copy",
    "samples.keep_sample",
    "samples.remove_sample",
    "decisions.put_table",
    "decisions.decide_with",
    "lists.put_list",
    "record-types.put_type",
    "record-types.touched",
    "record-types.start_type",
    "record-types.meaning_of_fields",
    "connections.put_connection",
    "described.put_description",
    "described.put_notes",
    "described.put_operation",
    "described.remove_operation",
    "mapping.mapping_of",
    "mapping.remap",
    "ways.put_way",
    "ways.try_way",
    "ways.begin",
    "ways.look",
    "ways.act",
    "ways.end",
    "connections.begin_consent",
    "connections.test_connection",
    "connections.remove_connection",
    "intakes.make_address",
    "intakes.say_yes",
    "intakes.test_intake",
    "judgements.judge_again",
    "judgements.stop_rejudging",
    "judgements.continue_rejudging",
    "judgements.take_anchors",
    "trials.start_trial",
    "trials.continue_trial",
    "trials.stop_trial",
}
_ADMIN = {
    "tokens.list_tokens",
    "tokens.make_token",
    "tokens.drop_token",
    "people.list_people",
    "people.put_person",
    "people.drop_person",
    "places.list_places",
    "places.allow_place",
    "places.refuse_place",
    "connections.new_key",
    "keeping.carry_out",
    "keeping.forget",
}


def needed(operation: str, *, looks_only: bool) -> str:
    """The role that an operation of the service needs; one that is not known here needs the highest unless it only looks."""
    for role, operations in (("admin", _ADMIN), ("builder", _BUILDER), ("reviewer", _REVIEWER)):
        if operation in operations:
            return role
    return "reader" if looks_only else "admin"


def may(role: str, operation: str, *, looks_only: bool) -> bool:
    """Whether whoever has a role may do an operation."""
    if role == "upload":
        return operation in _UPLOAD
    return role in ROLES and ROLES.index(role) >= ROLES.index(needed(operation, looks_only=looks_only))


def known_operations() -> set[str]:
    """Those that are named here."""
    return _UPLOAD | _REVIEWER | _BUILDER | _ADMIN
