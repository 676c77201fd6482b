import { useQueryClient } from "@tanstack/react-query";
import { useLocation, useNavigate } from "@tanstack/react-router";
import { api } from "../../api/client";
import { Form } from "./Form";

/** Where the one-time link leads: the first administrator chooses a password. */
export function Welcome() {
  const queries = useQueryClient();
  const navigate = useNavigate();
  // The secret stands after the #, so that it reaches no server log on the way.
  const secret = useLocation({ select: (location) => location.hash });
  const submit = async (name: string, password: string) => {
    await api.POST("/api/v1/welcome", { body: { secret, name, password } });
    queries.clear();
    await navigate({ to: "/journal" });
  };
  return (
    <Form
      title="Welcome"
      lead="Choose the first administrator's name and a password of at least 10 characters."
      action="Begin"
      passwordKind="new-password"
      submit={submit}
    />
  );
}
