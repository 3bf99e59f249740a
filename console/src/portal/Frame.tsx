import { useEffect } from "react";
import { Link, NavLink, Outlet, useLocation } from "react-router";
import styled, { createGlobalStyle } from "styled-components";

import { Button, Problem } from "../parts";
import { api, useApi, useChange } from "./client";

/** The publisher's own colours, where there are some. */
const Own = createGlobalStyle<{ $light: string; $dark: string }>`
  :root { --accent: light-dark(${(p) => p.$light}, ${(p) => p.$dark}); }
`;

const isColour = (text: string | null | undefined): text is string => /^#[0-9a-f]{6}$/i.test(text ?? "");

/** On paper stands what is read, whole: nothing can be opened or called there. */
const Paper = createGlobalStyle`
  @media print {
    [aria-label="Call it"] { display: none; }
    [hidden="until-found"] { display: block; content-visibility: visible; }
    section { break-inside: avoid-page; }
  }
`;

export function Frame() {
  const portal = useApi("GET /api/portal");
  const session = useApi("GET /api/session");
  const out = useChange(() => api("DELETE /api/session"));
  const preview = usePreview();
  return (
    <>
      {(isColour(portal.data?.accent) || isColour(portal.data?.accent_on_dark)) && (
        <Own
          $light={isColour(portal.data?.accent) ? portal.data.accent : "#0b6157"}
          $dark={isColour(portal.data?.accent_on_dark) ? portal.data.accent_on_dark : "#58c4b3"}
        />
      )}
      <Paper />
      <Skip href="#main">Skip to the content</Skip>
      <Top>
        <Name to="/">
          {portal.data?.logo && <img src="/logo.svg" alt="" width={28} height={28} />}
          <strong>{portal.data?.title ?? " "}</strong>
        </Name>
        <nav aria-label="Portal">
          <Item to="/" end>
            APIs
          </Item>
          <Item to="/offers">Offers</Item>
          {portal.data?.pages.map(([name, title]) => (
            <Item key={name} to={`/pages/${name}`}>
              {title}
            </Item>
          ))}
        </nav>
        <nav aria-label="Account">
          {session.data ? (
            <>
              <Item to="/applications">Applications</Item>
              <Unread />
              <Item to="/account">{session.data.name}</Item>
              <Button onPress={() => out.mutate(undefined)}>Sign out</Button>
            </>
          ) : (
            <>
              <Item to="/sign-in">Sign in</Item>
              {portal.data?.sign_up && <Item to="/sign-up">Sign up</Item>}
            </>
          )}
        </nav>
      </Top>
      {portal.data?.draft && <Drafted />}
      {preview && <Problem error={preview} />}
      {portal.error && <Problem error={portal.error} />}
      <Outlet />
    </>
  );
}

/** A link to the draft is used once, and leaves nothing in the address. */
function usePreview() {
  const { hash } = useLocation();
  const { mutate, error } = useChange((token: string) => api("POST /api/preview", { body: { token } }));
  useEffect(() => {
    if (!hash.startsWith("#preview=")) return;
    // Everything is asked for anew: what is under way already shows what is released.
    mutate(hash.slice("#preview=".length), { onSuccess: () => window.location.replace("/") });
  }, [hash, mutate]);
  return error;
}

/** Says that it is the draft that is looked at, and not what others see. */
function Drafted() {
  const end = useChange(() => api("DELETE /api/preview"));
  return (
    <Draft role="status">
      <strong>This is the draft.</strong> All of it is shown, and nobody else sees it.
      <Button onPress={() => end.mutate(undefined)}>Look at what is released</Button>
    </Draft>
  );
}

/** The messages, with how many are new. */
function Unread() {
  const messages = useApi("GET /api/messages", {}, 30_000);
  const unread = (messages.data ?? []).filter((m) => !m.read).length;
  return <Item to="/messages">Messages{unread > 0 && ` (${unread})`}</Item>;
}

const Top = styled.header`
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: var(--space-2) var(--space-5);
  padding: var(--space-2) var(--space-5);
  background: var(--sheet);
  border-bottom: 1px solid var(--line);
  min-height: 56px;
  nav {
    display: flex;
    flex-wrap: wrap;
    align-items: center;
    gap: 2px var(--space-2);
  }
  nav:last-of-type {
    margin-left: auto;
  }
  @media (max-width: 720px) {
    padding: var(--space-2) var(--space-3);
    nav:last-of-type {
      margin-left: 0;
    }
  }
  @media print {
    nav {
      display: none;
    }
  }
`;

const Draft = styled.div`
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: var(--space-2);
  padding: var(--space-2) var(--space-5);
  background: var(--accent-wash);
  border-bottom: 1px solid var(--line);
`;

const Name = styled(Link)`
  display: flex;
  align-items: center;
  gap: var(--space-2);
  color: var(--ink);
  text-decoration: none;
  font-size: var(--size-l);
`;

const Item = styled(NavLink)`
  color: var(--ink);
  text-decoration: none;
  padding: var(--space-1) var(--space-2);
  border-radius: var(--round);
  &:hover {
    background: var(--accent-wash);
  }
  &.active {
    color: var(--accent);
    font-weight: 600;
  }
`;

const Skip = styled.a`
  position: absolute;
  left: -9999px;
  &:focus {
    left: var(--space-2);
    top: var(--space-2);
    background: var(--sheet);
    padding: var(--space-2);
    z-index: 20;
  }
`;
