export const Key = ({ colour, text }: { colour: string; text: string }) => (
  <span>
    <svg width="10" height="10" aria-hidden>
      <rect width="10" height="10" fill={`var(--${colour})`} />
    </svg>{" "}
    {text}
  </span>
);
