import { useRef, type ComponentProps, type ReactNode } from "react";
import { Button } from "../parts/Button";
import { chosen, type Given } from "./prepare";

interface Props {
  /** What the field is called. */
  label: string;
  /** What it takes: one file, several, or a folder with all that is in it. */
  takes: "file" | "files" | "folder";
  kind?: ComponentProps<typeof Button>["kind"];
  onFiles: (files: Given[]) => void;
  children: ReactNode;
}

/** Choose is a button by which one chooses files, or a folder, of one's machine. */
export function Choose({ label, takes, kind = "plain", onFiles, children }: Props) {
  const input = useRef<HTMLInputElement | null>(null);
  return (
    <>
      <Button kind={kind} onClick={() => input.current?.click()}>
        {children}
      </Button>
      <input
        ref={(e) => {
          if (takes === "folder") e?.setAttribute("webkitdirectory", "");
          input.current = e;
        }}
        type="file"
        multiple={takes === "files"}
        hidden
        aria-label={label}
        onChange={(e) => {
          const files = e.target.files ? chosen(e.target.files) : [];
          e.target.value = ""; // so that the same file can be chosen again
          if (files.length > 0) onFiles(files);
        }}
      />
    </>
  );
}
