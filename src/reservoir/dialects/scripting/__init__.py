"""Change scripts: the statements that lead a device from one configuration to another.

In an order in which no address is assignable at any point that neither the old nor the new
configuration assigns; and in which, if that is possible, networks that both serve are served
throughout, and a check finds no error at any point that neither has. Each statement is applied to
the text, and what the device then does is read from it; a script that doesn't prove safe is not
made. Parts of a configuration that have nothing in common are changed one
after the other.
"""
