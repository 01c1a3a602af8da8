import { useQuery } from "@tanstack/react-query";
import { api, got } from "../api/client";
import type { PaymentMethod } from "../api/types";

const NONE: PaymentMethod[] = [];

/** The ways of paying one can choose from, in the order of the company. */
export function usePaymentMethods(): PaymentMethod[] {
  const methods = useQuery({
    queryKey: ["payment-methods"],
    queryFn: () => got(api.GET("/api/payment-methods", {})),
    staleTime: Number.POSITIVE_INFINITY,
  });
  return methods.data ?? NONE;
}
