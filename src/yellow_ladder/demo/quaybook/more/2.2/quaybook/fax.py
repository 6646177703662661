"""Sends confirmations by fax; gone since 2.4."""


def send(number, text):
    raise NotImplementedError("the harbour's fax machine was given to the museum")
