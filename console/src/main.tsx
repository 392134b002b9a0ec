import { render } from "preact";
import { takeKeyFromAddress } from "./key";
import { listen } from "./keys";
import { followAddress } from "./router";
import { Sheet } from "./shell";
import { follow, keepTime } from "./store";

takeKeyFromAddress();
followAddress();
listen();
keepTime();
void follow();
render(<Sheet />, document.body);
