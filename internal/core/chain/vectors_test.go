package chain

const vector = "d130442d91f2f14eb53126280ffbd1cc710ec8a2ecae5866e17be1ebf019be65"
