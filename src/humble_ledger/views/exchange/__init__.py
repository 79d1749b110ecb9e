"""Results in open formats that other programs read: JUnit XML, SARIF."""
