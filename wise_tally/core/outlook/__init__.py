"""The outlook: what will be won by the end of a period, learnt from how the firm's own deals moved. One module a step."""
