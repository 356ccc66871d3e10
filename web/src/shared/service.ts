// What this installation is.
import { useQuery } from "@tanstack/react-query";
import { api, ask } from "./api";

export const useService = () =>
  useQuery({ queryKey: ["service"], queryFn: () => ask(api.GET("/service")), refetchInterval: 15000 });

/** The dialects that devices can be spoken with. */
export const useDialects = () => useService().data?.dialects ?? [];
