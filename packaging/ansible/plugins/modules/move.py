#!/usr/bin/python
"""Moves the system of a board to another disk, once."""

DOCUMENTATION = r"""
module: move
short_description: Move the system of a board to another disk
version_added: 0.1.0
description:
  - Erases the target, copies the system of the host to it, reads it back, and makes it bootable.
  - A move that was interrupted is continued. One that is complete is not made again.
  - In check mode the itinerary is drawn, and nothing is written. With C(--diff) every edit is shown.
author: The founders of Wanderitas (@wanderitas)
extends_documentation_fragment:
  - wanderitas.boards.program
  - wanderitas.boards.plan
options:
  steps:
    description: Steps around the move, such as C(drivers) and C(order).
    type: list
    elements: str
    default: []
  options:
    description: More options of C(wanderitas draft) and their values, such as C(--name-by, uuid).
    type: list
    elements: str
    default: []
  catchup:
    description: Of a move that is complete, copy what changed on the board since.
    type: bool
    default: false
  again:
    description: Move once more where the board has arrived from an earlier move.
    type: bool
    default: false
"""
EXAMPLES = r"""
- name: Move the system
  wanderitas.boards.move:
    to: "{{ drive.disk }}"
    steps: [drivers, order]
"""
RETURN = r"""
stage:
  description: The stage before, as the module status_info tells it.
  returned: always
  type: str
itinerary:
  description: What a move would do.
  returned: in check mode
  type: dict
move:
  description: What was done, wanderitas-move.
  returned: when something was moved
  type: dict
"""

from ansible.module_utils.basic import AnsibleModule  # noqa: E402
from ansible_collections.wanderitas.boards.plugins.module_utils.program import (  # noqa: E402
    AFTER,
    ARGUMENTS,
    BEFORE,
    PLAN_ARGUMENTS,
    run,
    words_of_plan,
)


def drawn(program):
    """What a move would do, with all edits as they would be."""
    params = program.module.params
    itinerary = program.ask("draft", *words_of_plan(params), *params["options"])
    edits = [
        {"prepared": edit["diff"]} if edit.get("diff") else {"prepared": f"/{edit['file']}: edited\n"}
        for edit in itinerary["edits"]
    ]
    return {"changed": True, "itinerary": itinerary, "diff": edits}


def made(program):
    params = program.module.params
    words = ["move"] + words_of_plan(params) + params["options"] + ["--erase", params["to"]]
    if params["steps"]:
        words += ["--with", ",".join(params["steps"])]
    for check in params["despite"]:
        words += ["--despite", check]
    return {"changed": True, "move": program.ask(*words)}


def continued(program, status):
    if status["target"] != program.module.params["to"]:
        program.module.fail_json(
            msg=f"an interrupted move to {status['target']} is on this board, not to {program.module.params['to']}; "
            f"to continue it: {status['next']}"
        )
    if program.module.check_mode:
        return {"changed": True}
    return {"changed": True, "move": program.ask("move", "--resume", status["records"])}


def caught_up(program, status):
    if program.module.check_mode:
        return {"changed": True}
    catchup = program.ask("catchup", status["records"], codes=(0, 1))
    return {"changed": True, "catchup": catchup}


def work(program):
    module = program.module
    status = program.status()
    stage = status["stage"]
    if stage == "moving":
        module.fail_json(msg="a move is under way on this board: wait for its end", stage=stage)
    if stage == "interrupted":
        answer = continued(program, status)
    elif stage == "moved" and module.params["catchup"]:
        answer = caught_up(program, status)
    elif stage in AFTER and not (stage == "arrived" and module.params["again"]):
        answer = {"changed": False}
    elif stage in BEFORE or stage == "arrived":
        answer = drawn(program) if module.check_mode else made(program)
    else:
        module.fail_json(msg=f"the stage '{stage}' of this board is not known to this collection: update it")
    return {"stage": stage, **answer}


def main():
    spec = {
        "steps": {"type": "list", "elements": "str", "default": []},
        "options": {"type": "list", "elements": "str", "default": []},
        "catchup": {"type": "bool", "default": False},
        "again": {"type": "bool", "default": False},
    }
    run(AnsibleModule(argument_spec={**ARGUMENTS, **PLAN_ARGUMENTS, **spec}, supports_check_mode=True), work)


if __name__ == "__main__":
    main()
