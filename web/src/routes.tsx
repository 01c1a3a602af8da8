import { type ComponentType, lazy, Suspense } from "react";
import type { RouteObject } from "react-router";
import { DaySheetRoom } from "./rooms/DaySheet";
import { LostWay, NotFetched } from "./shell/LostWay";
import { Shell } from "./shell/Shell";

const loads: (() => Promise<unknown>)[] = [];

/** A room that is fetched when it is opened: the address changes at once, what was there stays until the room is here. */
function room<Name extends string>(load: () => Promise<Record<Name, ComponentType>>, name: Name) {
  loads.push(load);
  const Room = lazy(async (): Promise<{ default: ComponentType }> => ({ default: (await load())[name] }));
  return (
    <Suspense fallback={null}>
      <Room />
    </Suspense>
  );
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
    children: [
      {
        errorElement: <NotFetched />,
        children: [
          { index: true, element: <DaySheetRoom /> },
          { path: "orders", element: room(() => import("./rooms/Orders"), "OrdersRoom") },
          { path: "orders/new", element: room(() => import("./rooms/order/Entry"), "NewOrderRoom") },
          { path: "orders/lines", element: room(() => import("./rooms/order/OpenLines"), "OpenLinesRoom") },
          { path: "orders/quotes", element: room(() => import("./rooms/order/Quotes"), "QuotesRoom") },
          { path: "orders/blanket", element: room(() => import("./rooms/order/CallOffs"), "CallOffsRoom") },
          { path: "orders/blanket/new", element: room(() => import("./rooms/order/CallOffs"), "NewCallOffRoom") },
          { path: "orders/files", element: room(() => import("./rooms/order/Files"), "FilesRoom") },
          { path: "orders/files/:id", element: room(() => import("./rooms/order/Files"), "FileRoom") },
          { path: "orders/:id", element: room(() => import("./rooms/Order"), "OrderRoom") },
          { path: "orders/:id/change", element: room(() => import("./rooms/order/Entry"), "ChangeOrderRoom") },
          { path: "orders/:id/advance", element: room(() => import("./rooms/prepayments/Advance"), "AdvanceRoom") },
          { path: "quotes/new", element: room(() => import("./rooms/order/Entry"), "NewQuoteRoom") },
          { path: "quotes/:id", element: room(() => import("./rooms/order/Quotes"), "QuoteRoom") },
          { path: "quotes/:id/change", element: room(() => import("./rooms/order/Entry"), "ChangeQuoteRoom") },
          { path: "shipments", element: room(() => import("./rooms/Shipments"), "ShipmentsRoom") },
          { path: "shipments/:id", element: room(() => import("./rooms/Shipment"), "ShipmentRoom") },
          { path: "billing", element: room(() => import("./rooms/Unbilled"), "UnbilledRoom") },
          { path: "billing/invoices", element: room(() => import("./rooms/Invoices"), "InvoicesRoom") },
          { path: "billing/credit-memos", element: room(() => import("./rooms/CreditMemos"), "CreditMemosRoom") },
          { path: "billing/runs", element: room(() => import("./rooms/runs/Runs"), "RunsRoom") },
          { path: "billing/direct", element: room(() => import("./rooms/Direct"), "DirectRoom") },
          { path: "billing/going-out", element: room(() => import("./rooms/goingout/GoingOut"), "GoingOutRoom") },
          { path: "billing/going-out/print", element: room(() => import("./rooms/goingout/Print"), "PrintRoom") },
          { path: "going-out/:id", element: room(() => import("./rooms/goingout/Message"), "MessageRoom") },
          { path: "runs/:id", element: room(() => import("./rooms/runs/Run"), "RunRoom") },
          { path: "credit-drafts/:id", element: room(() => import("./rooms/invoice/CreditDraft"), "CreditDraftRoom") },
          { path: "credit-memos/new", element: room(() => import("./rooms/invoice/CreditAlone"), "CreditAloneRoom") },
          { path: "credit-memos/:id", element: room(() => import("./rooms/CreditMemo"), "CreditMemoRoom") },
          { path: "invoices/:id", element: room(() => import("./rooms/Invoice"), "InvoiceRoom") },
          { path: "invoices/:id/credit", element: room(() => import("./rooms/invoice/Credit"), "CreditRoom") },
          { path: "invoices/:id/exchange", element: room(() => import("./rooms/returns/AtOnce"), "AtOnceRoom") },
          {
            path: "invoices/:id/wrong-item",
            element: room(() => import("./rooms/returns/WrongItem"), "WrongItemRoom"),
          },
          { path: "prepayments", element: room(() => import("./rooms/deposits/Deposits"), "DepositsRoom") },
          { path: "prepayments/new", element: room(() => import("./rooms/deposits/NewDeposit"), "NewDepositRoom") },
          {
            path: "payment-requests/:id",
            element: room(() => import("./rooms/prepayments/Request"), "PaymentRequestRoom"),
          },
          {
            path: "prepayments/invoices",
            element: room(() => import("./rooms/prepayments/Register"), "PrepaymentInvoicesRoom"),
          },
          { path: "prepayments/cards", element: room(() => import("./rooms/cards/Cards"), "CardsRoom") },
          { path: "prepayments/payouts", element: room(() => import("./rooms/cards/Payouts"), "PayoutsRoom") },
          { path: "prepayments/:id", element: room(() => import("./rooms/deposits/Deposit"), "DepositRoom") },
          { path: "cards/:id", element: room(() => import("./rooms/cards/Card"), "CardRoom") },
          { path: "card-payouts/:id", element: room(() => import("./rooms/cards/Payouts"), "PayoutRoom") },
          { path: "returns", element: room(() => import("./rooms/returns/Returns"), "ReturnsRoom") },
          { path: "returns/new", element: room(() => import("./rooms/returns/NewReturn"), "NewReturnRoom") },
          { path: "returns/exchange", element: room(() => import("./rooms/returns/Exchange"), "ExchangeRoom") },
          { path: "returns/waiting", element: room(() => import("./rooms/returns/Waiting"), "WaitingRoom") },
          { path: "returns/expected", element: room(() => import("./rooms/returns/Expected"), "ExpectedRoom") },
          { path: "returns/claims", element: room(() => import("./rooms/returns/Claims"), "ClaimsRoom") },
          { path: "returns/why", element: room(() => import("./rooms/returns/Why"), "WhyRoom") },
          { path: "returns/:id", element: room(() => import("./rooms/returns/Return"), "ReturnRoom") },
          { path: "receipts", element: room(() => import("./rooms/Receipts"), "ReceiptsRoom") },
          { path: "receipts/new", element: room(() => import("./rooms/NewReceipt"), "NewReceiptRoom") },
          { path: "receipts/:id", element: room(() => import("./rooms/Receipt"), "ReceiptRoom") },
          { path: "receipts/advice", element: room(() => import("./rooms/receipt/Advice"), "AdviceRoom") },
          { path: "orders/to-finish", element: room(() => import("./rooms/order/ToFinish"), "ToFinishRoom") },
          { path: "disputes", element: room(() => import("./rooms/disputes/Disputes"), "DisputesRoom") },
          { path: "bank-slips", element: room(() => import("./rooms/slips/Slips"), "SlipsRoom") },
          { path: "bank-slips/new", element: room(() => import("./rooms/slips/NewSlip"), "NewSlipRoom") },
          { path: "bank-slips/:id", element: room(() => import("./rooms/slips/Slip"), "SlipRoom") },
          { path: "bank", element: room(() => import("./rooms/bank/Bank"), "BankRoom") },
          { path: "bank/:id", element: room(() => import("./rooms/bank/Statement"), "StatementRoom") },
          { path: "customers", element: room(() => import("./rooms/customers/Customers"), "CustomersRoom") },
          { path: "customers/new", element: room(() => import("./rooms/customers/File"), "NewCustomerRoom") },
          { path: "customers/:id", element: room(() => import("./rooms/Customer"), "CustomerRoom") },
          { path: "customers/:id/file", element: room(() => import("./rooms/customers/File"), "CustomerFileRoom") },
          { path: "items", element: room(() => import("./rooms/items/Items"), "ItemsRoom") },
          { path: "items/prices", element: room(() => import("./rooms/items/Prices"), "PricesRoom") },
          { path: "items/new", element: room(() => import("./rooms/items/Item"), "NewItemRoom") },
          { path: "items/:id", element: room(() => import("./rooms/items/Item"), "ItemRoom") },
          { path: "ledger", element: room(() => import("./rooms/Journal"), "JournalRoom") },
          { path: "ledger/trial-balance", element: room(() => import("./rooms/TrialBalance"), "TrialBalanceRoom") },
          { path: "ledger/open-items", element: room(() => import("./rooms/OpenItems"), "OpenItemsRoom") },
          { path: "ledger/accounts/:number", element: room(() => import("./rooms/Account"), "AccountRoom") },
          { path: "entries/:id", element: room(() => import("./rooms/Entry"), "EntryRoom") },
          { path: "approvals/:id", element: room(() => import("./rooms/Approval"), "ApprovalRoom") },
          { path: "setup", element: room(() => import("./rooms/setup/Company"), "CompanyRoom") },
          { path: "setup/goods", element: room(() => import("./rooms/setup/Goods"), "GoodsRoom") },
          { path: "setup/accounts", element: room(() => import("./rooms/setup/Accounts"), "AccountsRoom") },
          { path: "setup/fields", element: room(() => import("./rooms/setup/Fields"), "FieldsRoom") },
          { path: "setup/people", element: room(() => import("./rooms/setup/People"), "PeopleRoom") },
          { path: "setup/limits", element: room(() => import("./rooms/setup/Limits"), "LimitsRoom") },
          { path: "setup/numbers", element: room(() => import("./rooms/setup/Numbers"), "NumbersRoom") },
          { path: "setup/periods", element: room(() => import("./rooms/setup/Periods"), "PeriodsRoom") },
          { path: "setup/opening", element: room(() => import("./rooms/setup/Opening"), "OpeningRoom") },
          { path: "setup/money", element: room(() => import("./rooms/setup/Money"), "MoneySetupRoom") },
          { path: "setup/returns", element: room(() => import("./rooms/setup/Returns"), "ReturnsSetupRoom") },
          { path: "setup/mail", element: room(() => import("./rooms/setup/Mail"), "MailRoom") },
          { path: "setup/record", element: room(() => import("./rooms/setup/Record"), "RecordRoom") },
          { path: "handbook", element: room(() => import("./rooms/Handbook"), "HandbookRoom") },
          { path: "me", element: room(() => import("./rooms/Me"), "MeRoom") },
          { path: "*", element: <LostWay /> },
        ],
      },
    ],
  },
];
