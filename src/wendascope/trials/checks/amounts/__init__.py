"""What can be limited. One file a kind; each amount registers itself with `amount`."""

from wendascope.trials.checks.amounts._registry import Amount, How, Known, amount, amount_named, amounts

__all__ = ["Amount", "How", "Known", "amount", "amount_named", "amounts"]
