"""The first look: a draft of a treatment, made from a survey and some measures; nothing of it is done yet."""
