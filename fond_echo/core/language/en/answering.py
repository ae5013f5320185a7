"""How people and engines talk around a question (English), and names that are not anybody's."""

from __future__ import annotations

import re

EVASIONS = re.compile(
    "|".join(
        (
            r"\b(can(no|')t|can not|could not|couldn't|am (just|only|not able|unable|afraid)|"
            r"'m (just|only|not able|unable|afraid)|unable to|not able to) "
            r"(\w+ ){0,3}(help|assist|answer|say|tell|give|process|respond|know|discuss|comment|"
            r"do that|talk|order|smell)",
            r"\b(won't|would rather not|'d rather not|'d prefer not|must not|not allowed to|"
            r"been told not to) ?(\w+ )?(say|answer|talk|tell|comment|discuss)?",
            r"\bas an? (\w+ )?(assistant|language model|ai|bot|helper)",
            r"\bi('m| am) (just |only )?an? (\w+ )?(bot|assistant|helper|language model)",
            r"\b(don't|do not) (know|have (an answer|access|any information|information)|"
            r"understand)\b(?! by)",
            r"\bno (information|opinion|answer|idea)\b",
            r"\b(it|that) (all )?(depends|varies)\b|\bhard to say\b|\bdifferent opinions\b",
            r"\b(good|great|interesting|tricky) (question|one)\b|\binteresting, tell me\b",
            r"\blet me (know|think)\b|\bfeel free\b|\bhope this helps\b|\banything else\b",
            r"\b(be|rephrase|mean)\b.{0,20}\b(specific|rephrase)\b|\bwhat you mean\b",
            r"\bneed to know more\b|\bcheck that yourself\b|\bsee our website\b|\bbeyond me\b",
            r"\bask (somebody|someone) else\b|\bcontact someone\b|\btry again later\b",
            r"\bnobody knows\b|\bwho can tell\b|\bi wish i knew\b|\bmaybe,? maybe not\b",
            r"\bthere (is|may be) (much to say|various)\b|\bso many possibilities\b",
            r"\bthanks for asking\b|\bwhy would you like\b",
        )
    ),
    re.IGNORECASE,
)
"""Phrases that go around a question."""

CAPITALIZED = frozenset(("I", "Mr", "Mrs", "Ms", "Dr", "OK", "TV", "Wi-Fi", "GP"))
"""Words with a capital letter that are nobody's name."""
