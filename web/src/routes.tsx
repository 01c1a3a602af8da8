import type { ComponentType } from "react";
import type { RouteObject } from "react-router";
import { DaySheetRoom } from "./rooms/DaySheet";
import { LostWay, NotFetched } from "./shell/LostWay";
import { Shell } from "./shell/Shell";

const loads: (() => Promise<unknown>)[] = [];

/** A room that is fetched when it is opened. */
function room<Name extends string>(load: () => Promise<Record<Name, ComponentType>>, name: Name) {
  loads.push(load);
  return async () => ({ Component: (await load())[name] });
}

/** Fetches every room, one after the other: then the next one opens at once, and also while the server is away. */
export async function fetchRooms(): Promise<void> {
  for (const load of loads) {
    // What is not there now is asked for again when it is opened.
    await load().catch(() => undefined);
  }
}

/** Where every room and document lives. */
export const routes: RouteObject[] = [
  {
    path: "/",
    element: <Shell />,
    // Until the first room is here the shell waits with it.
    HydrateFallback: () => null,
    children: [
      {
        errorElement: <NotFetched />,
        children: [
          { index: true, element: <DaySheetRoom /> },
          { path: "orders", lazy: room(() => import("./rooms/Orders"), "OrdersRoom") },
          { path: "orders/new", lazy: room(() => import("./rooms/order/Entry"), "NewOrderRoom") },
          { path: "orders/lines", lazy: room(() => import("./rooms/order/OpenLines"), "OpenLinesRoom") },
          { path: "orders/quotes", lazy: room(() => import("./rooms/order/Quotes"), "QuotesRoom") },
          { path: "orders/call-offs", lazy: room(() => import("./rooms/order/CallOffs"), "CallOffsRoom") },
          { path: "orders/call-offs/new", lazy: room(() => import("./rooms/order/CallOffs"), "NewCallOffRoom") },
          { path: "orders/files", lazy: room(() => import("./rooms/order/Files"), "FilesRoom") },
          { path: "orders/files/:id", lazy: room(() => import("./rooms/order/Files"), "FileRoom") },
          { path: "orders/:id", lazy: room(() => import("./rooms/Order"), "OrderRoom") },
          { path: "orders/:id/change", lazy: room(() => import("./rooms/order/Entry"), "ChangeOrderRoom") },
          { path: "orders/:id/advance", lazy: room(() => import("./rooms/prepayments/Advance"), "AdvanceRoom") },
          {
            path: "quotes/new",
            lazy: async () => {
              const { NewOrderRoom } = await import("./rooms/order/Entry");
              return { element: <NewOrderRoom quote /> };
            },
          },
          { path: "quotes/:id", lazy: room(() => import("./rooms/order/Quotes"), "QuoteRoom") },
          { path: "quotes/:id/change", lazy: room(() => import("./rooms/order/Entry"), "ChangeQuoteRoom") },
          { path: "shipments", lazy: room(() => import("./rooms/Shipments"), "ShipmentsRoom") },
          { path: "shipments/:id", lazy: room(() => import("./rooms/Shipment"), "ShipmentRoom") },
          { path: "billing", lazy: room(() => import("./rooms/Unbilled"), "UnbilledRoom") },
          { path: "billing/invoices", lazy: room(() => import("./rooms/Invoices"), "InvoicesRoom") },
          { path: "billing/credit-memos", lazy: room(() => import("./rooms/CreditMemos"), "CreditMemosRoom") },
          { path: "billing/runs", lazy: room(() => import("./rooms/runs/Runs"), "RunsRoom") },
          { path: "billing/direct", lazy: room(() => import("./rooms/Direct"), "DirectRoom") },
          { path: "billing/going-out", lazy: room(() => import("./rooms/goingout/GoingOut"), "GoingOutRoom") },
          { path: "billing/going-out/print", lazy: room(() => import("./rooms/goingout/Print"), "PrintRoom") },
          { path: "going-out/:id", lazy: room(() => import("./rooms/goingout/Message"), "MessageRoom") },
          { path: "runs/:id", lazy: room(() => import("./rooms/runs/Run"), "RunRoom") },
          { path: "credit-memos/new", lazy: room(() => import("./rooms/invoice/CreditAlone"), "CreditAloneRoom") },
          { path: "credit-memos/:id", lazy: room(() => import("./rooms/CreditMemo"), "CreditMemoRoom") },
          { path: "invoices/:id", lazy: room(() => import("./rooms/Invoice"), "InvoiceRoom") },
          { path: "invoices/:id/credit", lazy: room(() => import("./rooms/invoice/Credit"), "CreditRoom") },
          { path: "invoices/:id/exchange", lazy: room(() => import("./rooms/returns/AtOnce"), "AtOnceRoom") },
          { path: "invoices/:id/wrong-item", lazy: room(() => import("./rooms/returns/WrongItem"), "WrongItemRoom") },
          { path: "prepayments", lazy: room(() => import("./rooms/deposits/Deposits"), "DepositsRoom") },
          { path: "prepayments/new", lazy: room(() => import("./rooms/deposits/NewDeposit"), "NewDepositRoom") },
          {
            path: "payment-requests/:id",
            lazy: room(() => import("./rooms/prepayments/Request"), "PaymentRequestRoom"),
          },
          {
            path: "prepayments/invoices",
            lazy: room(() => import("./rooms/prepayments/Register"), "PrepaymentInvoicesRoom"),
          },
          { path: "prepayments/cards", lazy: room(() => import("./rooms/cards/Cards"), "CardsRoom") },
          { path: "prepayments/payouts", lazy: room(() => import("./rooms/cards/Payouts"), "PayoutsRoom") },
          { path: "prepayments/:id", lazy: room(() => import("./rooms/deposits/Deposit"), "DepositRoom") },
          { path: "cards/:id", lazy: room(() => import("./rooms/cards/Card"), "CardRoom") },
          { path: "card-payouts/:id", lazy: room(() => import("./rooms/cards/Payouts"), "PayoutRoom") },
          { path: "returns", lazy: room(() => import("./rooms/returns/Returns"), "ReturnsRoom") },
          { path: "returns/new", lazy: room(() => import("./rooms/returns/NewReturn"), "NewReturnRoom") },
          { path: "returns/waiting", lazy: room(() => import("./rooms/returns/Waiting"), "WaitingRoom") },
          { path: "returns/expected", lazy: room(() => import("./rooms/returns/Expected"), "ExpectedRoom") },
          { path: "returns/claims", lazy: room(() => import("./rooms/returns/Claims"), "ClaimsRoom") },
          { path: "returns/why", lazy: room(() => import("./rooms/returns/Why"), "WhyRoom") },
          { path: "returns/:id", lazy: room(() => import("./rooms/returns/Return"), "ReturnRoom") },
          { path: "receipts", lazy: room(() => import("./rooms/Receipts"), "ReceiptsRoom") },
          { path: "receipts/new", lazy: room(() => import("./rooms/NewReceipt"), "NewReceiptRoom") },
          { path: "receipts/:id", lazy: room(() => import("./rooms/Receipt"), "ReceiptRoom") },
          { path: "receipts/advice", lazy: room(() => import("./rooms/receipt/Advice"), "AdviceRoom") },
          { path: "orders/to-finish", lazy: room(() => import("./rooms/order/ToFinish"), "ToFinishRoom") },
          { path: "disputes", lazy: room(() => import("./rooms/disputes/Disputes"), "DisputesRoom") },
          { path: "bank-slips", lazy: room(() => import("./rooms/slips/Slips"), "SlipsRoom") },
          { path: "bank-slips/new", lazy: room(() => import("./rooms/slips/NewSlip"), "NewSlipRoom") },
          { path: "bank-slips/:id", lazy: room(() => import("./rooms/slips/Slip"), "SlipRoom") },
          { path: "bank", lazy: room(() => import("./rooms/bank/Bank"), "BankRoom") },
          { path: "bank/:id", lazy: room(() => import("./rooms/bank/Statement"), "StatementRoom") },
          { path: "customers", lazy: room(() => import("./rooms/customers/Customers"), "CustomersRoom") },
          { path: "customers/new", lazy: room(() => import("./rooms/customers/File"), "NewCustomerRoom") },
          { path: "customers/:id", lazy: room(() => import("./rooms/Customer"), "CustomerRoom") },
          { path: "customers/:id/file", lazy: room(() => import("./rooms/customers/File"), "CustomerFileRoom") },
          { path: "items", lazy: room(() => import("./rooms/items/Items"), "ItemsRoom") },
          { path: "items/prices", lazy: room(() => import("./rooms/items/Prices"), "PricesRoom") },
          { path: "items/new", lazy: room(() => import("./rooms/items/Item"), "NewItemRoom") },
          { path: "items/:id", lazy: room(() => import("./rooms/items/Item"), "ItemRoom") },
          { path: "ledger", lazy: room(() => import("./rooms/Journal"), "JournalRoom") },
          { path: "ledger/trial-balance", lazy: room(() => import("./rooms/TrialBalance"), "TrialBalanceRoom") },
          { path: "ledger/open-items", lazy: room(() => import("./rooms/OpenItems"), "OpenItemsRoom") },
          { path: "ledger/accounts/:number", lazy: room(() => import("./rooms/Account"), "AccountRoom") },
          { path: "entries/:id", lazy: room(() => import("./rooms/Entry"), "EntryRoom") },
          { path: "approvals/:id", lazy: room(() => import("./rooms/Approval"), "ApprovalRoom") },
          { path: "setup", lazy: room(() => import("./rooms/setup/Company"), "CompanyRoom") },
          { path: "setup/goods", lazy: room(() => import("./rooms/setup/Goods"), "GoodsRoom") },
          { path: "setup/accounts", lazy: room(() => import("./rooms/setup/Accounts"), "AccountsRoom") },
          { path: "setup/fields", lazy: room(() => import("./rooms/setup/Fields"), "FieldsRoom") },
          { path: "setup/people", lazy: room(() => import("./rooms/setup/People"), "PeopleRoom") },
          { path: "setup/limits", lazy: room(() => import("./rooms/setup/Limits"), "LimitsRoom") },
          { path: "setup/numbers", lazy: room(() => import("./rooms/setup/Numbers"), "NumbersRoom") },
          { path: "setup/periods", lazy: room(() => import("./rooms/setup/Periods"), "PeriodsRoom") },
          { path: "setup/opening", lazy: room(() => import("./rooms/setup/Opening"), "OpeningRoom") },
          { path: "setup/money", lazy: room(() => import("./rooms/setup/Money"), "MoneySetupRoom") },
          { path: "setup/returns", lazy: room(() => import("./rooms/setup/Returns"), "ReturnsSetupRoom") },
          { path: "setup/mail", lazy: room(() => import("./rooms/setup/Mail"), "MailRoom") },
          { path: "setup/record", lazy: room(() => import("./rooms/setup/Record"), "RecordRoom") },
          { path: "me", lazy: room(() => import("./rooms/Me"), "MeRoom") },
          { path: "*", element: <LostWay /> },
        ],
      },
    ],
  },
];
