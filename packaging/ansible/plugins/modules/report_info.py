#!/usr/bin/python
"""Gathers all that is known of a board's newest move."""

DOCUMENTATION = r"""
module: report_info
short_description: Gather all that is known of a board's newest move
version_added: 0.1.0
description:
  - Asks C(wanderitas report) on the host. Changes nothing.
  - C(wanderitas report --reports FOLDER) makes pages of many of these documents.
author: The founders of Wanderitas (@wanderitas)
extends_documentation_fragment: wanderitas.boards.program
"""
EXAMPLES = r"""
- name: Gather the report
  wanderitas.boards.report_info:
  register: board
"""
RETURN = r"""
report:
  description: The document of the program, wanderitas-report/2.
  returned: always
  type: dict
"""

from ansible.module_utils.basic import AnsibleModule  # noqa: E402
from ansible_collections.wanderitas.boards.plugins.module_utils.program import ARGUMENTS, run  # noqa: E402


def work(program):
    return {"changed": False, "report": program.ask("report")}


def main():
    run(AnsibleModule(argument_spec=ARGUMENTS, supports_check_mode=True), work)


if __name__ == "__main__":
    main()
