import { Link } from "react-router";

import { Soft } from "../../parts";
import { modelPath, useFacade } from "./links";
import { type Document, followed, nameOf, type Schema, typeOf } from "./openapi";

/** A model's name within a schema, where it is one or a list of one. */
function modelOf(document: Document, schema: Schema): string {
  if (schema.$ref?.startsWith("#/components/schemas/")) return nameOf(schema.$ref);
  const own = followed(document, schema);
  return own.items ? modelOf(document, own.items) : "";
}

/** The type of a schema in words; a model's name leads to its page. */
export function TypeName({ document, schema }: { document: Document; schema: Schema }) {
  const facade = useFacade();
  const model = modelOf(document, schema);
  const words = typeOf(document, schema);
  const at = model ? words.lastIndexOf(model) : -1;
  if (!facade || at < 0) return <Soft>{words}</Soft>;
  return (
    <Soft>
      {words.slice(0, at)}
      <Link to={modelPath(facade, model)}>{model}</Link>
      {words.slice(at + model.length)}
    </Soft>
  );
}
