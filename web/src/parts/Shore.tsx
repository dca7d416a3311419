import { useMutation, useQueryClient } from "@tanstack/react-query";
import { DropdownMenu } from "radix-ui";
import { useState, type ReactNode } from "react";
import { Link, NavLink, useNavigate } from "react-router";
import { api, ask } from "../api/client";
import { atDesk } from "../api/desk";
import { useMe } from "../api/me";
import { Keys } from "./Keys";
import { useTheme } from "./theme";

const item = "cursor-default rounded-md px-3 py-1.5 outline-none data-highlighted:bg-stone";

/** Shore is what stands above every page: where one is, and who one is. */
export function Shore({ children }: { children?: ReactNode }) {
  const me = useMe();
  const [theme, turn] = useTheme();
  const queries = useQueryClient();
  const navigate = useNavigate();
  const [keys, setKeys] = useState(false);
  const leave = useMutation({
    mutationFn: () => ask(api.POST("/sign-out")),
    onSettled: () => {
      void navigate("/sign-in");
      queries.clear();
    },
  });
  return (
    <header className="border-b border-line bg-bank">
      <a
        href="#page"
        className="sr-only focus:not-sr-only focus:absolute focus:z-40 focus:m-2 focus:rounded-md focus:bg-bank focus:px-3 focus:py-2"
      >
        To the page
      </a>
      <div className="mx-auto flex max-w-[88rem] flex-wrap items-center gap-x-3 gap-y-1 px-3 py-2 sm:gap-x-6 sm:px-6">
        <Link to="/" className="flex items-center gap-2 font-semibold no-underline" aria-label="Kettle Tarn, all projects">
          <img src="/tarn.svg" alt="" className="size-6" />
          <span className="max-sm:hidden">Kettle Tarn</span>
        </Link>
        {atDesk && (
          <NavLink to="/desk" className={({ isActive }) => `font-semibold no-underline ${isActive ? "text-copper" : ""}`}>
            My work
          </NavLink>
        )}
        {children}
        <DropdownMenu.Root>
          <DropdownMenu.Trigger className="ml-auto rounded-md border border-transparent px-2 py-1 text-peat hover:border-line hover:text-ink">
            {me.data?.handle ?? "…"}
          </DropdownMenu.Trigger>
          <DropdownMenu.Portal>
            <DropdownMenu.Content
              align="end"
              sideOffset={6}
              className="z-20 min-w-44 rounded-lg border border-line bg-bank p-1 text-sm shadow-xl"
            >
              <DropdownMenu.Item className={item} onSelect={() => void navigate("/me")}>
                You: name, passphrase, sign-ins
              </DropdownMenu.Item>
              {me.data?.steward && (
                <DropdownMenu.Item className={item} onSelect={() => void navigate("/service")}>
                  The service
                </DropdownMenu.Item>
              )}
              <DropdownMenu.Item className={item} onSelect={() => setKeys(true)}>
                Keys
              </DropdownMenu.Item>
              <DropdownMenu.Item className={item} onSelect={turn}>
                {theme === "dark" ? "Light theme" : "Dark theme"}
              </DropdownMenu.Item>
              {!atDesk && (
                <DropdownMenu.Item className={item} onSelect={() => leave.mutate()}>
                  Sign out
                </DropdownMenu.Item>
              )}
            </DropdownMenu.Content>
          </DropdownMenu.Portal>
        </DropdownMenu.Root>
        <Keys open={keys} onOpen={setKeys} />
      </div>
    </header>
  );
}

/** Page is the room below it. */
export function Page({ children }: { children: ReactNode }) {
  return (
    <main id="page" tabIndex={-1} className="mx-auto max-w-[88rem] px-4 py-6 outline-none sm:px-6">
      {children}
    </main>
  );
}
