"""The frame round the stage: route, ledger, inspector, advice, and the window that holds them."""
