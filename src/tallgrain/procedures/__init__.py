"""The procedures that drive a link: generators that yield what happens."""
