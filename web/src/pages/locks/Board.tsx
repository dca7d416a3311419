import { Link, useSearchParams } from "react-router";
import type { Lock } from "../../api/client";
import { useLocks } from "../../api/locks";
import { Line } from "../../parts/Line";
import { AnswerAsk, ReleaseLock, TakeOffer, WaitOrAsk } from "../../parts/LockControl";
import { Picture } from "../../parts/Picture";
import { Trouble } from "../../parts/Trouble";
import { assetPath, When } from "../../parts/words";
import { useHere, type Here } from "../project/ProjectFrame";

const filters: { name: string; words: string; fits: (l: Lock, me: string) => boolean }[] = [
  { name: "", words: "All", fits: () => true },
  { name: "mine", words: "Mine", fits: (l, me) => l.holder === me },
  { name: "waiting", words: "Waited for", fits: (l) => l.waitlist.length > 0 },
  { name: "forgotten", words: "Look forgotten", fits: (l) => !!l.forgotten },
];

/** Board is everything that is held or waited for, the longest held first. */
export function Board() {
  const here = useHere();
  const locks = useLocks(here.key);
  const [params] = useSearchParams();
  const filter = filters.find((f) => f.name === (params.get("only") ?? "")) ?? filters[0]!;
  if (!locks.data) return <Trouble error={locks.error} />;
  const all = locks.data.locks;
  const list = all.filter((l) => filter.fits(l, here.me));
  return (
    <>
      <p className="mb-3 flex flex-wrap gap-x-4 text-peat" role="group" aria-label="Show only">
        {filters.map((f) => (
          <Link key={f.name} to={f.name ? `?only=${f.name}` : "."} replace aria-current={f === filter} className={f === filter ? "text-ink" : "text-peat"}>
            {f.words} {all.filter((l) => f.fits(l, here.me)).length}
          </Link>
        ))}
      </p>
      {list.length === 0 && <p className="text-peat">Nothing of that kind is locked.</p>}
      <table className="w-full border-collapse text-left">
        <thead className="text-peat">
          <tr className="border-b border-line">
            <th className="py-1.5 pr-4 font-normal md:min-w-72">Asset</th>
            <th className="w-56 py-1.5 pr-4 font-normal">Held by</th>
            <th className="w-[28%] py-1.5 pr-4 font-normal">Who waits</th>
            <th className="py-1.5 font-normal"><span className="sr-only">What to do</span></th>
          </tr>
        </thead>
        <tbody>
          {list.slice(0, 500).map((l) => <Row key={l.path} here={here} lock={l} />)}
        </tbody>
      </table>
      {list.length > 500 && <p className="mt-2 text-peat">and {(list.length - 500).toLocaleString("en")} more: tarn holders lists them</p>}
    </>
  );
}

function Row({ here, lock }: { here: Here; lock: Lock }) {
  const mine = lock.holder === here.me;
  const offered = lock.waitlist[0]?.offered_until && lock.waitlist[0].handle === here.me;
  return (
    <tr className="border-b border-line align-top">
      <td className="py-2.5 pr-4">
        <span className="flex items-start gap-3">
          <Picture project={here.key} path={lock.path} version={0} edge={96} className="size-10 shrink-0 rounded-md" />
          <span>
            <Link to={assetPath(here.key, lock.path)} className="font-medium wrap-anywhere">{lock.path}</Link>
            {lock.note && <span className="block text-peat">{lock.note}</span>}
          </span>
        </span>
      </td>
      <td className="py-2.5 pr-4">
        {lock.holder ? (
          <>
            <span className={`font-medium ${mine ? "text-copper" : "text-ice"}`}>{mine ? "you" : lock.holder}</span>, <When at={lock.since} />
            <span className="block text-peat">in {lock.workspace}{lock.unsent && ", with changes not sent"}</span>
            <Marks lock={lock} />
          </>
        ) : (
          <span className="text-peat">nobody</span>
        )}
      </td>
      <td className="py-2.5 pr-4">{lock.waitlist.length === 0 && !lock.asks?.length ? <span className="text-peat">nobody</span> : <Line lock={lock} me={here.me} />}</td>
      <td className="py-2.5">
        <span className="flex flex-wrap justify-end gap-2">
          {offered && <TakeOffer here={here} lock={lock} />}
          {here.maySend && !mine && !offered && <WaitOrAsk here={here} lock={lock} />}
          {mine && (lock.asks ?? []).filter((k) => !k.answer).map((k) => <AnswerAsk key={k.person} here={here} lock={lock} ask={k} />)}
          <ReleaseLock here={here} lock={lock} />
        </span>
      </td>
    </tr>
  );
}

/** Marks are what makes a lock worth a second look. */
export function Marks({ lock }: { lock: Lock }) {
  return (
    <>
      {lock.forgotten && lock.heard && <span className="block text-rust">looks forgotten: no word from there since <When at={lock.heard} /></span>}
      {!!lock.diverged && <span className="block text-rust">knowingly from version {lock.diverged}, though others have one that it was not made from</span>}
    </>
  );
}

