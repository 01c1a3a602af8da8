import type { components } from "../../api/schema";

export type Schemas = components["schemas"];
