"""The rehearsal: simulated clients and devices that speak the real protocol, before a deployment.

The way of a message: a client or a device (``clients``, ``devices``) makes one of ``messages``,
which becomes bytes in a frame; ``wires`` carry it to whoever hears it. ``judgement`` says what came
of it. ``rehearse`` sets all of it up from a plan and tells what each client got.
"""
