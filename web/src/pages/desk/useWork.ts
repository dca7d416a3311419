import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { call, finished, look, useDesk } from "../../api/desk";
import type { Methods, Progress } from "../../api/desk.gen";

/** useWork does one thing at the desk: what came of it, whether it goes on, and how far it is. */
export function useWork<M extends keyof Methods>(method: M, onDone?: (answer: Methods[M]["answers"], asked: Methods[M]["takes"]) => void) {
  const [work] = useState(() => `${method}-${Math.random().toString(36).slice(2)}`);
  const progress: Progress | undefined = useDesk().progress[work];
  const mutation = useMutation({
    mutationFn: (params: Methods[M]["takes"]) => call(method, { ...params, work }),
    onSuccess: (answer, asked) => onDone?.(answer, asked),
    onSettled: () => {
      finished(work);
      void look();
    },
  });
  return { ...mutation, progress };
}
