import { Page } from "../parts";

export function NotFound() {
  return (
    <Page>
      <h1>There is no such page</h1>
      <p>
        <a href="/">Where things stand</a>
      </p>
    </Page>
  );
}
