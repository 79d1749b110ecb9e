"""The steps of the loop as plain functions: ledger and engine in, entries out.

This is also the Python interface:

    from humble_ledger.workflow import Workspace, diagnose, propose
    with Workspace.find() as workspace:
        for entry in diagnose.diagnose(workspace, ["q3"]):
            print(entry.symptom.summary)
"""

from humble_ledger.workflow.workspace import Workspace

__all__ = ["Workspace"]
