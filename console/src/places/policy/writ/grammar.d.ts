declare module "*.grammar" {
  import type { LRParser } from "@lezer/lr";
  export const parser: LRParser;
}

declare module "*.grammar.terms" {
  export const Text: number;
  export const Regex: number;
  export const Fact: number;
  export const Literal: number;
  export const Word: number;
}
