import { configure } from "@testing-library/react";
import { afterEach } from "vitest";

// How long a test waits for what it looks for; the machine may be building something else meanwhile.
configure({ asyncUtilTimeout: 20_000 });

// What one test typed and left is not there in the next.
afterEach(() => globalThis.sessionStorage?.clear());
