import { useQueryClient } from "@tanstack/react-query";
import { useRouter, useSearch } from "@tanstack/react-router";
import { useState } from "react";
import { api, CallError } from "../../api/client";
import { Form } from "./Form";

/** Where an administrator signs in. */
export function SignIn() {
  const queries = useQueryClient();
  const router = useRouter();
  const { back } = useSearch({ from: "/sign-in" });
  const [wantsCode, setWantsCode] = useState(false);
  const submit = async (name: string, password: string, code: string) => {
    try {
      await api.POST("/api/v1/sign-in", { body: { name, password, ...(code ? { code } : {}) } });
    } catch (error) {
      if (error instanceof CallError && error.needsCode) setWantsCode(true);
      throw error;
    }
    queries.clear();
    router.history.push(back ?? "/today");
  };
  return (
    <Form
      title="Sign in"
      lead="Who and what joined the network, and why."
      action="Sign in"
      passwordKind="current-password"
      wantsCode={wantsCode}
      submit={submit}
    />
  );
}
