import { useEffect, useRef, useState } from "react";
import { Button } from "../../parts/Button";
import { Diamond, MarkButton, momentSpot, spotMoment, usePoints } from "../../parts/Pointing";
import type { Report } from "./useCompare";

interface Side {
  report: Report;
  address: (name: string) => string;
}

const names = ["before", "after"];

/** Sounds shows both as waveform and spectrogram, and plays either at the same place. */
export function Sounds({ sides }: { sides: Side[] }) {
  const players = [useRef<HTMLAudioElement>(null), useRef<HTMLAudioElement>(null)];
  const [playing, setPlaying] = useState<number>();
  const [at, setAt] = useState(0);
  const points = usePoints();
  const longest = Math.max(...sides.map((s) => s.report.seconds ?? 0), 0.01);
  // biome-ignore lint/correctness/useExhaustiveDependencies: the players are always the same two
  useEffect(() => {
    if (playing === undefined) return;
    let frame = 0;
    const tick = () => {
      const p = players[playing]!.current;
      if (p) setAt(p.currentTime);
      frame = requestAnimationFrame(tick);
    };
    tick();
    return () => cancelAnimationFrame(frame);
  }, [playing]);
  const seek = (seconds: number) => {
    setAt(seconds);
    players.forEach((p) => p.current && (p.current.currentTime = seconds));
  };
  const play = (i: number) => {
    players.forEach((p, k) => k !== i && p.current?.pause());
    const p = players[i]!.current;
    if (!p || playing === i) {
      p?.pause();
      return setPlaying(undefined);
    }
    p.currentTime = at >= (sides[i]!.report.seconds ?? 0) - 0.02 ? 0 : at;
    void p.play();
    setPlaying(i);
  };
  return (
    <section aria-label="Sounds" className="space-y-6">
      {sides.map((s, i) => (
        <div key={i}>
          <div className="mb-1.5 flex items-center gap-3">
            {sides.length > 1 && <h2>{i === 0 ? "Before" : "After"}</h2>}
            {s.report.files.includes("sound.wav") && (
              <>
                <Button onClick={() => play(i)}>
                  {playing === i ? "Stop" : `Play ${sides.length > 1 ? `${names[i]} ` : ""}from ${at.toFixed(1)} s`}
                </Button>
                <audio ref={players[i]} src={s.address("sound.wav")} preload="auto" onEnded={() => setPlaying(undefined)} />
              </>
            )}
          </div>
          {["whole.png", "spectrogram.png"]
            .filter((n) => s.report.files.includes(n))
            .map((n) => (
              <div
                key={n}
                className="relative mb-1 rounded-md bg-stone"
                style={{ width: `${((s.report.seconds ?? longest) / longest) * 100}%` }}
                onClick={(e) => {
                  if ((e.target as Element).closest("[data-mark]")) return;
                  const r = e.currentTarget.getBoundingClientRect();
                  seek(((e.clientX - r.left) / r.width) * (s.report.seconds ?? 0));
                }}
              >
                <img
                  src={s.address(n)}
                  alt={n === "whole.png" ? `Waveform ${names[i]}` : `Spectrogram ${names[i]}`}
                  className="block h-36 w-full cursor-crosshair"
                />
                <span
                  aria-hidden
                  className="pointer-events-none absolute inset-y-0 w-0.5 bg-copper"
                  style={{ left: `${(Math.min(at, s.report.seconds ?? 0) / (s.report.seconds || 1)) * 100}%` }}
                />
                {i === sides.length - 1 && n === "whole.png" && <Moments seconds={s.report.seconds ?? 0} />}
              </div>
            ))}
        </div>
      ))}
      <label className="block">
        <span className="text-xs text-peat">Where to listen: {at.toFixed(2)} s</span>
        <input
          type="range"
          min={0}
          max={longest}
          step={0.01}
          value={at}
          className="w-full accent-copper"
          onChange={(e) => seek(Number(e.target.value))}
        />
      </label>
      {points.point && (
        <Button onClick={() => points.point!(momentSpot(Math.min(at, sides.at(-1)!.report.seconds ?? 0)))}>
          Point at {momentSpot(at)}
        </Button>
      )}
    </section>
  );
}

/** Moments are the marks on a waveform, each on a line at its moment. */
function Moments({ seconds }: { seconds: number }) {
  const points = usePoints();
  const at = (where: string | undefined) => {
    const moment = spotMoment(where ?? "");
    return moment === undefined || seconds <= 0 || moment > seconds ? undefined : { left: `${(moment / seconds) * 100}%` };
  };
  const own = at(points.spot);
  const line = "pointer-events-none absolute inset-y-0 border-l-2 border-dotted border-ink";
  return (
    <>
      {points.marks.map((m) => {
        const left = at(m.where);
        return (
          left && (
            <span key={m.number} className={line} style={left}>
              <span className="pointer-events-auto absolute -top-1 -left-3.5">
                <MarkButton mark={m} points={points} />
              </span>
            </span>
          )
        );
      })}
      {own && (
        <span className={line} style={own}>
          <span className="absolute -top-1 -left-3.5">
            <Diamond number="+" chosen />
          </span>
        </span>
      )}
    </>
  );
}
