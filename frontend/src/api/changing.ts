import { useMutation, useQueryClient } from "@tanstack/react-query";

/** A change on the server, after which what was asked for under a key is asked for anew, whether it worked or not. */
export function useChange<Asked, Answer>(key: string, change: (asked: Asked) => Promise<Answer>) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: change,
    onSettled: () => queries.invalidateQueries({ queryKey: [key] }),
  });
}
