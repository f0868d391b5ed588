"""The rehearsal: simulated clients and devices that speak the real protocol, before a deployment.

The way of a message: a client or a device (``client``, ``stand_in``) makes a ``message``, which
becomes bytes in a ``frame``; the ``network`` of segments carries it, by the ``clock``, to whoever
hears it. ``rehearse`` sets all of it up from a plan and tells what each client got.
"""
