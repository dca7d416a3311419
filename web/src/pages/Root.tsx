import { useQueryClient } from "@tanstack/react-query";
import { Dialog } from "radix-ui";
import { useEffect, useState } from "react";
import { Outlet, useLocation, useNavigate } from "react-router";
import { useTold } from "../acts/telling";
import { signedOut, useSignedOut } from "../acts/signedOut";
import { atDesk } from "../api/desk";
import type { Person } from "../api/me";
import { SignInForm } from "./signin/SignInForm";

/** Root is around every page: signing in again, and where the keyboard is after one went somewhere. */
export function Root() {
  const { pathname } = useLocation();
  useTold();
  const [first, setFirst] = useState(pathname);
  useEffect(() => {
    if (pathname === first) return;
    setFirst("");
    const main = document.querySelector("main");
    if (main && !main.contains(document.activeElement)) main.focus({ preventScroll: true });
    scrollTo(0, 0);
  }, [pathname, first]);
  return (
    <>
      <Outlet />
      {atDesk ? <ToTheDesk /> : <SignInAgain />}
    </>
  );
}

/** ToTheDesk leads whoever is signed out on this machine to where one signs in. */
function ToTheDesk() {
  const out = useSignedOut();
  const { pathname } = useLocation();
  const navigate = useNavigate();
  useEffect(() => {
    if (!out) return;
    signedOut.over();
    if (!pathname.startsWith("/desk")) void navigate("/desk");
  }, [out, pathname, navigate]);
  return null;
}

/** SignInAgain is for who is signed out, or was, in another window: on the spot, and what was typed stays. */
function SignInAgain() {
  const out = useSignedOut();
  const { pathname, search } = useLocation();
  const queries = useQueryClient();
  const navigate = useNavigate();
  const was = queries.getQueryData<Person>(["me"])?.handle;
  const nobody = out && !was; // nothing is on the page yet
  useEffect(() => {
    if (!nobody) return;
    signedOut.over();
    if (pathname !== "/sign-in") void navigate(`/sign-in?to=${encodeURIComponent(pathname + search)}`);
  }, [nobody, pathname, search, navigate]);
  const back = (handle: string) => {
    signedOut.over();
    // Somebody else begins anew: what is on the page is not theirs.
    if (handle !== was) location.reload();
    else void queries.invalidateQueries();
  };
  return (
    <Dialog.Root open={out && !!was}>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-40 bg-deep/75" />
        <Dialog.Content
          onOpenAutoFocus={(e) => {
            e.preventDefault();
            (e.currentTarget as HTMLElement).querySelector<HTMLInputElement>("input[name=passphrase]")?.focus();
          }}
          onEscapeKeyDown={(e) => e.preventDefault()}
          onInteractOutside={(e) => e.preventDefault()}
          className="fixed top-1/2 left-1/2 z-40 max-h-[calc(100dvh-2rem)] w-[min(24rem,calc(100vw-2rem))] -translate-1/2 overflow-y-auto rounded-lg border border-line bg-bank p-5 shadow-2xl"
        >
          <Dialog.Title className="text-lg font-semibold">Sign in again</Dialog.Title>
          <Dialog.Description className="mt-1 mb-4 text-peat">You are signed out. The page stays as it is.</Dialog.Description>
          {was && <SignInForm known={was} to={pathname + search} onIn={back} />}
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
