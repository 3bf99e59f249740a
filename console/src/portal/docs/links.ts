import { createContext, useContext } from "react";

/** The facade whose models names lead to. */
export const OfFacade = createContext("");

export const modelPath = (facade: string, name: string): string =>
  `/facades/${encodeURIComponent(facade)}/models/${encodeURIComponent(name)}`;

export const useFacade = (): string => useContext(OfFacade);
