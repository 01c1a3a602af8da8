import { useQuery } from "@tanstack/react-query";
import { api, got } from "../../api/client";
import type { ReturnSettings } from "../../api/types";

/** Reasons, dispositions, days: the company's own. */
export function useReturnSettings(): ReturnSettings | undefined {
  const settings = useQuery({
    queryKey: ["return-settings"],
    queryFn: () => got(api.GET("/api/return-settings")),
    staleTime: 60_000,
  });
  return settings.data;
}
