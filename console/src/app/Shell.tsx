import { NavLink, Outlet } from "react-router";
import styled from "styled-components";

import { api, useApi, useChange } from "../api/client";
import type { Session } from "../api/schema";
import { Button, Soft } from "../parts";

export function Shell({ session }: { session: Session }) {
  const overview = useApi("GET /api/overview", {}, 5000);
  const out = useChange(() => api("DELETE /api/session"));
  const waiting = (overview.data?.unreleased.length ?? 0) + (overview.data?.unreleased_offers.length ?? 0);
  const asked = overview.data?.open_requests ?? 0;
  return (
    <Frame>
      <Side aria-label="Console">
        <Name>Elm Porch</Name>
        <Item to="/" end>
          Where things stand
        </Item>
        <Item to="/facades">Facades</Item>
        <Item to="/backends">Backends</Item>
        <Item to="/rules">Shared rules</Item>
        <Item to="/publish">Publish a backend</Item>
        <Item to="/documents">Documents</Item>
        <Item to="/release">
          Compare and release
          {waiting > 0 && <Dot role="img" aria-label={`${waiting} not released`} />}
        </Item>
        <Item to="/offers">
          Offers and requests
          {asked > 0 && <Dot role="img" aria-label={`${asked} not decided`} />}
        </Item>
        <Item to="/messages">Messages</Item>
        <Item to="/consumers">Consumers and keys</Item>
        <Item to="/quotas">Quotas</Item>
        <Item to="/traces">Traces</Item>
        <Item to="/usage">Usage</Item>
        <Item to="/audit">Audit</Item>
        {session.role === "administrator" && (
          <>
            <Item to="/secrets">Secrets</Item>
            <Item to="/accounts">Accounts</Item>
          </>
        )}
        <Bottom>
          <Soft>
            {overview.data
              ? `${overview.data.environment}: ${overview.data.release ? `release ${overview.data.release}` : "nothing released"}`
              : ""}
          </Soft>
          <NavLink to="/own" title="Sessions and tokens">
            {session.name}, {session.role}
          </NavLink>
          <Button onPress={() => out.mutate(undefined)}>Sign out</Button>
        </Bottom>
      </Side>
      <Outlet />
    </Frame>
  );
}

const Frame = styled.div`
  display: grid;
  grid-template-columns: 232px minmax(0, 1fr);
  min-height: 100vh;
  @media (max-width: 720px) {
    grid-template-columns: minmax(0, 1fr);
  }
`;

const Side = styled.nav`
  border-right: 1px solid var(--line);
  background: var(--sunken);
  padding: var(--space-4) var(--space-3);
  display: flex;
  flex-direction: column;
  gap: 2px;
  position: sticky;
  top: 0;
  height: 100vh;
  overflow-y: auto;
  @media (max-width: 720px) {
    position: static;
    height: auto;
    flex-flow: row wrap;
    padding: var(--space-2);
    border-right: 0;
    border-bottom: 1px solid var(--line);
  }
`;

const Item = styled(NavLink)`
  color: var(--ink);
  text-decoration: none;
  padding: var(--space-1) var(--space-2);
  border-radius: var(--round);
  display: flex;
  justify-content: space-between;
  &:hover {
    background: var(--accent-wash);
  }
  &.active {
    background: var(--accent-wash);
    color: var(--accent);
    font-weight: 600;
  }
`;

const Name = styled.strong`
  padding: 0 var(--space-2) var(--space-3);
  font-size: var(--size-l);
`;

const Bottom = styled.div`
  margin-top: auto;
  display: grid;
  gap: var(--space-2);
  padding: 0 var(--space-2);
  font-size: var(--size-s);
`;

const Dot = styled.span`
  width: 8px;
  height: 8px;
  border-radius: 50%;
  background: var(--warn);
  align-self: center;
`;
