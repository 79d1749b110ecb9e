"""The steps of the loop as plain functions: ledger and engine in, entries out.

This is also the Python interface:

    from humble_ledger.workflow import Workspace
    from humble_ledger.workflow.diagnosing import diagnose

    with Workspace.find() as workspace:
        for plan, symptoms in diagnose(workspace, ["q3"]):
            print([entry.symptom.summary for entry in symptoms])
"""

from humble_ledger.workflow.workspace import Workspace

__all__ = ["Workspace"]
