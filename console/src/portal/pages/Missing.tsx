import { Link } from "react-router";

import { Content } from "../parts/Sheets";
import { useTitle } from "../parts/title";

export function Missing() {
  useTitle("Nothing here");
  return (
    <Content>
      <h1>There is nothing at this address</h1>
      <p>
        <Link to="/">All APIs</Link>
      </p>
    </Content>
  );
}
