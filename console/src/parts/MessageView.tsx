import type { Message } from "../api/schema";
import { Code, Soft } from ".";
import { pretty } from "./format";

export function MessageView({ message, label }: { message: Message; label: string }) {
  return (
    <div>
      <Soft>{label}</Soft>
      <Code>
        {message.head}
        {message.headers.map(([name, value]) => `\n${name}: ${value}`).join("")}
        {message.body && `\n\n${pretty(message.body)}`}
      </Code>
    </div>
  );
}
