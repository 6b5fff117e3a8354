"""The form of a release: how its contract is written and its messages are read.

A release keeps the form in which it was made, so that a newer program changes nothing for its callers; the next release of a service takes
the newest form, which `compare` shows and judges.

| what | form 1 | from form 2 on |
| --- | --- | --- |
| emptying a field in an update | xsi:nil on an optional element | its name in the repeated element `clear` |
| what goes wrong and is not declared | `problem` and `call` in the detail | one element `problems`, which every operation declares |
| a fault's message, the port type | named like the element, the service | `NotFoundFault`, `VesselRegistryPortType` |
| a declared fault | says what happened | says in which call, too |
| xsi:type, attributes of the message's element, a second Body in SOAP 1.1 | are not looked at | are judged |
| status of MustUnderstand in SOAP 1.2 | 400 | 500 (Part 2, table 20) |

| what | up to form 2 | form 3 |
| --- | --- | --- |
| the code of a declared fault | Server, Receiver | by its cause: Client, Sender where the request has to change |
| status of a declared fault of the sender in SOAP 1.2 | 500 | 400 (Part 2, table 20) |
| what a rule of the database does not allow | `write.check` and its like in `problems` | Conflict with the reason `not-allowed` |
"""

from enum import IntEnum


class Form(IntEnum):
    FIRST = 1
    SECOND = 2
    THIRD = 3

    @property
    def empties_by_name(self) -> bool:
        """Whether updates take the names of fields to empty, and nil means nothing."""
        return self >= Form.SECOND

    @property
    def declares_problems(self) -> bool:
        """Whether contracts declare the one fault for everything else."""
        return self >= Form.SECOND

    @property
    def strict(self) -> bool:
        """Whether messages are held to all that their standards say."""
        return self >= Form.SECOND


    @property
    def blames(self) -> bool:
        """Whether declared faults say whose they are, and Conflict knows what a rule of the database does not allow."""
        return self >= Form.THIRD


NEWEST = Form.THIRD
