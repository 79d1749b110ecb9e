"""Plans of servers that do not run here, read from what people saved of them.

One folder for each format: its document, its operators, its notation of conditions. `drafts` puts
a tree together, `findings` has the symptoms that a plan shows when nobody can be asked. What a
format rests on, and whether it was tried on a real server, stands at the head of its `format.py`.
"""
