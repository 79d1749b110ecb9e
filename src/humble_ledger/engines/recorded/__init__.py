"""A recorded stand-in: a target that answers from a file of questions and answers.

`noting` writes what a real server answered, `standing_in` answers from it; `answers` is the file
(docs/formats/answers.md), `codec` what questions and answers look like in it. What was not asked
when it was made is not known, and said so.
"""
