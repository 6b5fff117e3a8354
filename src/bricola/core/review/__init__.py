"""The readiness review: everything that stands between a draft and a sound deployment, in one list.

Errors stop a release or a deployment, warnings and hints do not. Only what concerns the service is reviewed. The rules of a kind of
source stand with that kind.
"""

from bricola.core.definitions.findings import BackendFact, CredentialFact, Facts, Finding, PoolFact, Rule, Severity
from bricola.core.review.rules import all_rules
from bricola.core.review.run import review

__all__ = ["BackendFact", "CredentialFact", "Facts", "Finding", "PoolFact", "Rule", "Severity", "all_rules", "review"]
