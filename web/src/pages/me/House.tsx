import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, ask } from "../../api/client";
import { Button } from "../../parts/Button";
import { toTheHouse } from "../../parts/house";
import { Trouble } from "../../parts/Trouble";
import { WayIn } from "./WayIn";

/** House is the account at the sign-on of the house that signs one in, where there is such a sign-on. */
export function House() {
  const queries = useQueryClient();
  const found = useQuery({ queryKey: ["me", "house"], queryFn: () => ask(api.GET("/me/house")) });
  const go = useMutation({ mutationFn: () => toTheHouse("/me") });
  const remove = useMutation({
    mutationFn: (number: number) => ask(api.DELETE("/me/house/{tie}", { params: { path: { tie: String(number) } } })),
    onSuccess: () => queries.invalidateQueries({ queryKey: ["me", "house"] }),
  });
  const house = found.data?.house;
  const ties = found.data?.ties ?? [];
  if (!house && ties.length === 0) return <Trouble error={found.error} />;
  return (
    <section aria-labelledby="house">
      <h2 id="house">{house || "The sign-on of your house"}</h2>
      <ul className="mt-2 max-w-sm">
        {ties.map((t) => (
          <WayIn key={t.number} name={t.shown} used={t.used} busy={remove.isPending} onTake={() => remove.mutate(t.number)} />
        ))}
      </ul>
      <Trouble error={remove.error} />
      {house && ties.length === 0 && (
        <>
          <p className="mt-2 mb-3 max-w-sm text-peat">Tie your account there, and it signs you in here, without the passphrase.</p>
          <Button disabled={go.isPending} onClick={() => go.mutate()}>
            Tie my account
          </Button>
          <Trouble error={go.error} />
        </>
      )}
    </section>
  );
}
