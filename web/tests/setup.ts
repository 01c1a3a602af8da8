import { configure } from "@testing-library/react";

// How long a test waits for what it looks for; the machine may be building something else meanwhile.
configure({ asyncUtilTimeout: 20_000 });
