import { useParams } from "react-router";

import { Loaded } from "../../parts";
import { useApi } from "../client";
import { Content } from "../parts/Sheets";
import { Text } from "../parts/Text";
import { useTitle } from "../parts/title";

export function TextPage() {
  const { page = "" } = useParams();
  const text = useApi("GET /api/pages/{page}", { path: { page } });
  useTitle(text.data?.title ?? "");
  return (
    <Content>
      <Loaded of={text}>
        {(t) => (
          <>
            <h1>{t.title}</h1>
            <Text html={t.text} />
          </>
        )}
      </Loaded>
    </Content>
  );
}
