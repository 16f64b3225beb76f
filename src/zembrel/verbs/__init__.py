"""The verbs: options -> plan -> views -> engine -> receipt. Their records are in `zembrel.verbtable`."""
